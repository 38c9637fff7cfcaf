import { Button } from '@chakra-ui/react';
import { lazy, Suspense, useState } from 'react';
import { Link } from 'react-router';
import type { FindingKind, NewBulk } from '../api/client';
import type { Kind } from '../groups/bulk';
import { mendPath } from '../shared/findings';

const ChangeMany = lazy(() => import('../groups/change-many'));

const many: Record<string, Kind> = {
  owners: 'owners',
  retire: 'retire',
  renew: 'renew',
  policy: 'policy',
  exempt: 'exempt',
  aliases: 'aliases',
  externals: 'externals',
};

/** Mends are the changes that mend findings of a kind: of those groups that are picked, or of all. */
export function Mends(props: { kind: FindingKind; picked?: string[]; small?: boolean; days?: number | undefined }) {
  const { kind: k, picked = [] } = props;
  const [open, setOpen] = useState<Kind>();
  const n = picked.length || k.open;
  const groups: NewBulk = picked.length
    ? { groups: picked }
    : { list: { filter: k.filter ?? '' } as NewBulk['list'] & object, expected: k.open };
  const size = props.small ? '2xs' : 'xs';
  return (
    <>
      {k.mends.map((m) => {
        const bulk = many[m.do];
        if (bulk && k.filter) {
          return (
            <Button key={m.do} size={size} variant="outline" colorPalette="ivy" onClick={() => setOpen(bulk)}>
              {m.says}…
            </Button>
          );
        }
        const to = m.do === 'waiting' ? mendPath(m.do, k.kind) : undefined;
        return (
          to && (
            <Button key={m.do} asChild size={size} variant="outline" colorPalette="ivy">
              <Link to={to}>{m.says}</Link>
            </Button>
          )
        );
      })}
      {open && (
        <Suspense>
          <ChangeMany
            kind={open}
            n={n}
            groups={groups}
            likely={{
              ...(k.kind === 'open_unheld' ? { policy: { hold: 'outsiders' } } : {}),
              aliases: { unused_days: props.days ?? 365 },
              external_members: k.kind === 'unvouched' ? { without_voucher: true, voucher: '' } : { until: '' },
            }}
            onDone={() => setOpen(undefined)}
          />
        </Suspense>
      )}
    </>
  );
}
