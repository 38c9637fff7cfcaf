import { Box, Button } from '@chakra-ui/react';
import { useVirtualizer } from '@tanstack/react-virtual';
import { Rows2, Rows4 } from 'lucide-react';
import { type MouseEvent, type ReactNode, useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';

export type Column = { key: string; label: ReactNode; width: string; sort?: string; num?: boolean };

/** A column that can be chosen, with what stands in it. */
export type Choosable<T> = Column & { label: string; cell: (row: T) => ReactNode; title?: (row: T) => string };

/** useColumns is which columns of a list are shown, in their order, remembered under the name of the list. */
export function useColumns<T>(name: string, all: Choosable<T>[], usual: string[]) {
  const at = `columns of ${name}`;
  const known = (keys: string[]) => keys.filter((k) => all.some((c) => c.key === k));
  const [chosen, setChosen] = useState<string[]>(() => known((localStorage.getItem(at) ?? '').split(' ')));
  const keys = chosen.length > 0 ? chosen : usual;
  return {
    chosen: keys,
    all: all.map((c) => ({ key: c.key, label: c.label })),
    shown: keys.flatMap((k) => all.filter((c) => c.key === k)),
    onChange: (next: string[]) => {
      localStorage.setItem(at, known(next).join(' '));
      setChosen(known(next));
    },
  };
}

/** Cells are the cells of a row, one for each column. */
export function Cells<T>({ columns, row }: { columns: Choosable<T>[]; row: T }) {
  return columns.map((c) => (
    <td key={c.key} className={c.num ? 'num' : ''} title={c.title?.(row)}>
      {c.cell(row)}
    </td>
  ));
}

/** The two heights of rows, in pixels; the stylesheet has them too. */
const heights = { comfortable: 57, compact: 27 };
export type Rows = keyof typeof heights;

const kept = 'rows';

/** useRows is how high the rows of long lists are, the same in all of them, and remembered. */
export function useRows(): [Rows, (rows: Rows) => void] {
  const [rows, setRows] = useState<Rows>(localStorage.getItem(kept) === 'compact' ? 'compact' : 'comfortable');
  return [
    rows,
    (next) => {
      localStorage.setItem(kept, next);
      setRows(next);
    },
  ];
}

/** RowHeight chooses between the two heights. */
export function RowHeight({ rows, onRows }: { rows: Rows; onRows: (rows: Rows) => void }) {
  const next = rows === 'compact' ? 'comfortable' : 'compact';
  return (
    <Button
      size="xs"
      variant="outline"
      colorPalette="gray"
      display={{ base: 'none', md: 'inline-flex' }}
      onClick={() => onRows(next)}
    >
      {next === 'compact' ? <Rows4 size={14} /> : <Rows2 size={14} />}{' '}
      {next === 'compact' ? 'Compact rows' : 'Roomy rows'}
    </Button>
  );
}

/**
 * VirtualTable draws only those rows of a long list that are in sight. They are drawn tens of times a second, so they
 * are best memoised and hold plain links, which the table follows for all of them.
 */
export function VirtualTable<T extends { id: string }>(props: {
  label: string;
  columns: Column[];
  rows: T[];
  minWidth: string;
  row: (row: T) => ReactNode;
  sort?: string;
  onSort?: (sort: string) => void;
  more: boolean;
  onMore: () => void;
  height?: string;
  high: Rows;
}) {
  const { rows, more, onMore, columns, high } = props;
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => heights[high],
    overscan: 6,
  });
  useEffect(() => virtual.measure(), [virtual, high]);
  const navigate = useNavigate();
  const follow = (e: MouseEvent) => {
    const href = e.target instanceof Element ? e.target.closest('a')?.getAttribute('href') : null;
    const plain = e.button === 0 && !e.metaKey && !e.ctrlKey && !e.shiftKey && !e.altKey;
    if (!href?.startsWith('/') || !plain) return;
    e.preventDefault();
    void navigate(href);
  };
  const items = virtual.getVirtualItems();
  const last = items[items.length - 1]?.index ?? 0;
  useEffect(() => {
    if (more && last >= rows.length - 40) onMore();
  }, [last, more, onMore, rows.length]);
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  return (
    <Box
      ref={box}
      {...(props.height ? { maxH: props.height } : { flex: '1', minH: '0' })}
      overflow="auto"
      bg="bg.panel"
      borderWidth="1px"
      borderRadius="lg"
      tabIndex={0}
      role="region"
      aria-label={props.label}
    >
      <table className={`list even ${high}`} style={{ minWidth: props.minWidth }} aria-rowcount={rows.length}>
        <thead>
          <tr>
            {columns.map((c) => {
              const on =
                c.sort && props.sort === c.sort
                  ? 'ascending'
                  : c.sort && props.sort === `-${c.sort}`
                    ? 'descending'
                    : undefined;
              return (
                <th key={c.key} scope="col" style={{ width: c.width }} className={c.num ? 'num' : ''} aria-sort={on}>
                  {c.sort && props.onSort ? (
                    <button
                      type="button"
                      onClick={() => props.onSort?.(on === 'ascending' ? `-${c.sort}` : (c.sort ?? ''))}
                    >
                      {c.label}
                      {on === 'ascending' ? ' ↑' : on === 'descending' ? ' ↓' : ''}
                    </button>
                  ) : (
                    c.label
                  )}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody onClick={follow}>
          {before > 0 && (
            <tr className="spacer">
              <td colSpan={columns.length} style={{ height: before }} />
            </tr>
          )}
          {items.map((item) => {
            const row = rows[item.index];
            return row && <tr key={row.id}>{props.row(row)}</tr>;
          })}
          {after > 0 && (
            <tr className="spacer">
              <td colSpan={columns.length} style={{ height: after }} />
            </tr>
          )}
        </tbody>
      </table>
    </Box>
  );
}
