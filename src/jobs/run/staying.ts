import { includes, numbersOf, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { stayingCopies } from '../../store/plan/twins';
import type { Lane } from './lanes';

/**
 * Which of some members of a run would be the last copy of their message, of those that lots of copies gave it: one copy of each has to be
 * on the server now, outside the trash, and no run may take it.
 */
export async function lastCopies(
  database: Database,
  account: Account,
  run: number,
  ids: readonly number[],
  { folders, server }: Lane,
): Promise<number[]> {
  const { promised, copies } = await stayingCopies(database, account, run, ids);
  const open = new Set(numbersOf(promised));
  let left = copies;
  while (open.size > 0 && left.length > 0) {
    // One copy of each is looked for; where it is gone, the next.
    const looked = new Map<number, (typeof left)[number]>();
    const later: typeof left = [];
    for (const copy of left)
      if (!open.has(copy.of)) continue;
      else if (looked.has(copy.of)) later.push(copy);
      else looked.set(copy.of, copy);
    const byGeneration = new Map<number, (typeof left)[number][]>();
    for (const copy of looked.values())
      byGeneration.set(copy.generation, [...(byGeneration.get(copy.generation) ?? []), copy]);
    for (const [generation, wanted] of byGeneration) {
      const reason = await folders.open(generation);
      if (reason !== undefined && reason !== 'read-only') continue;
      const there = await server.uids(rangesOf(wanted.map(({ uid }) => uid)));
      for (const { of, uid } of wanted) if (includes(there, uid)) open.delete(of);
    }
    left = later;
  }
  return [...open];
}
