import { Fragment } from 'react';
import type { Group } from '../api/client';

/** Owners names the owners of a group. Those who have left are marked, and count as none. */
export function Owners({ group: g }: { group: Group }) {
  const here = g.owners.filter((o) => !o.departed);
  const left = g.owners.filter((o) => o.departed);
  return (
    <>
      {here.length === 0 && <span className="warn">nobody</span>}
      {here.map((o) => o.name).join(', ')}
      {left.map((o) => (
        <Fragment key={o.address}>
          {' '}
          <s>{o.name}</s> <span className="warn">has left</span>
        </Fragment>
      ))}
    </>
  );
}
