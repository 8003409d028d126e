import type { ReactNode } from 'react';
import { Heads } from '../../ui/Heads';
import { groupHeads } from './CopyGroup';

/** A table of groups of what is the same, each drawn as a `CopyGroup`; or what is said where there is none. */
export function GroupTable<T>({
  groups,
  what,
  none,
  draw,
}: {
  groups: readonly T[];
  /** Names what exists more than once. */
  what: string;
  none: string;
  draw(group: T): ReactNode;
}) {
  if (groups.length === 0) return <p className="note">{none}</p>;
  return (
    <div className="overflow-x-auto">
      <table className="table">
        <Heads of={groupHeads(what)} />
        <tbody>{groups.map(draw)}</tbody>
      </table>
    </div>
  );
}

/** What goes of all that can, less what was left out by hand. */
export function goingWithout(
  going: { files: number; bytes: number },
  groups: readonly { id: number; going: { files: number; bytes: number } }[],
  left: ReadonlySet<number>,
): { files: number; bytes: number } {
  return groups
    .filter(({ id }) => left.has(id))
    .reduce(
      (sum, { going: without }) => ({ files: sum.files - without.files, bytes: sum.bytes - without.bytes }),
      going,
    );
}
