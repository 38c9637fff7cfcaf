import { Box } from '@chakra-ui/react';
import { useVirtualizer } from '@tanstack/react-virtual';
import { type MouseEvent, type ReactNode, useEffect, useRef } from 'react';
import { useNavigate } from 'react-router';

export type Column = { key: string; label: ReactNode; width: string; sort?: string; num?: boolean };

/**
 * VirtualTable draws only those rows of a long list that are in sight. Rows are 57 pixels high; they are drawn tens of
 * times a second, so they are best memoised and hold plain links, which the table follows for all of them.
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
}) {
  const { rows, more, onMore, columns } = props;
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => 57,
    overscan: 6,
  });
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
      <table className="list even" style={{ minWidth: props.minWidth }} aria-rowcount={rows.length}>
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
