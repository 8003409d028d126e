import { includes, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { isOfTwins, promisedMembers, type StayingCopy, stayingCopies, takenAmong } from '../../store/plan/twins';
import type { Lane } from './lanes';

/** Copies of one message that are looked for. Where none of them is there, its members are left: that is safe in any case. */
const MOST_LOOKED_FOR = 8;

/** The copies that stay while a run takes others: the index is asked once for those of each message, the server before each batch. */
export class Staying {
  private readonly known = new Map<string, StayingCopy[]>();
  private ofTwins: boolean | undefined;

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly run: number,
  ) {}

  /**
   * Which of some members would be the last copy of their message, of those that lots of copies gave the run: one copy has to be on the
   * server now, outside the trash, and neither the plan nor a run may take it.
   */
  async lastAmong(ids: readonly number[], lane: Lane): Promise<number[]> {
    const { database, account, run } = this;
    this.ofTwins ??= await isOfTwins(database, account.id, run);
    if (!this.ofTwins) return [];
    const members = await promisedMembers(database, account.id, run, ids);
    const open = new Set(members.map(({ key }) => key));
    await this.learn([...open].filter((key) => !this.known.has(key)));
    const candidates = [...open].flatMap((key) => this.known.get(key) ?? []);
    // What was free may have been marked since.
    const taken = await takenAmong(
      database,
      account.id,
      candidates.map(({ id }) => id),
    );
    let left = candidates.filter(({ id }) => !includes(taken, id));
    while (open.size > 0 && left.length > 0) left = await lookFor(left, open, lane);
    return members.filter(({ key }) => open.has(key)).map(({ id }) => id);
  }

  private async learn(keys: readonly string[]): Promise<void> {
    for (const key of keys) this.known.set(key, []);
    if (keys.length === 0) return;
    for (const copy of await stayingCopies(this.database, this.account, keys)) {
      const copies = this.known.get(copy.key);
      if (copies && copies.length < MOST_LOOKED_FOR) copies.push(copy);
    }
  }
}

/** Looks on the server for one copy of each message; takes out of `open` what was found, and gives the copies to look for next. */
async function lookFor(copies: StayingCopy[], open: Set<string>, { folders, server }: Lane): Promise<StayingCopy[]> {
  const looked = new Set<string>();
  const later: StayingCopy[] = [];
  const byGeneration = new Map<number, StayingCopy[]>();
  for (const copy of copies) {
    if (!open.has(copy.key)) continue;
    if (looked.has(copy.key)) {
      later.push(copy);
      continue;
    }
    looked.add(copy.key);
    const together = byGeneration.get(copy.generation) ?? [];
    together.push(copy);
    byGeneration.set(copy.generation, together);
  }
  for (const [generation, wanted] of byGeneration) {
    const reason = await folders.open(generation);
    if (reason !== undefined && reason !== 'read-only') continue;
    const there = await server.uids(rangesOf(wanted.map(({ uid }) => uid)));
    for (const { key, uid } of wanted) if (includes(there, uid)) open.delete(key);
  }
  return later;
}
