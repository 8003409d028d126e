import * as clock from '../../clock/clock';
import { namesConflicts, type RepeatingFolder, repeatingFolders } from '../../core/repeats/folders';
import { KEPT_IN, keptOf } from '../../core/repeats/keeper';
import { copyOf, keptInOf, type TwinGroup, type TwinRows, twinGroups } from '../../core/repeats/twins';
import { includes, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { foldersOf, type StoredFolder } from '../index/folders';
import { guardedNow } from '../index/guarded';
import { readTwins } from '../index/twins';
import { promisedMessages } from './promised';
import { takenNow } from './taken';

/** What exists more than once, and which of it can go. */
export interface Twins {
  rows: TwinRows;
  /** Those from which most is won first. */
  groups: TwinGroup[];
  repeating: RepeatingFolder[];
  folders: StoredFolder[];
  guarded: Ranges;
  /** What lots of the plan, and runs that are not over, take. */
  taken: Ranges;
}

export async function twinsOf(db: Queryable, account: Account): Promise<Twins> {
  const found = await readTwins(db, account);
  const folders = await foldersOf(db, account.id);
  const { members: guarded } = await guardedNow(db, account, clock.now());
  const taken = await takenNow(db, account.id);
  const conflicts = new Set(
    folders.filter(({ path, role }) => role === null && namesConflicts(path)).map(({ id }) => id),
  );
  const repeating = repeatingFolders(await messagesByFolder(db, account.id), foldersOfGroups(found), (id) =>
    conflicts.has(id),
  );
  const facts = {
    isGuarded: (id: number) => includes(guarded, id),
    isTaken: (id: number) => includes(taken, id),
    keptIn: keptIn(folders, repeating),
  };
  const groups = twinGroups(found, facts, account.settings.keepRules);
  groups.sort((a, b) => b.bytes - a.bytes || a.id - b.id);
  return { rows: found, groups, repeating, folders, guarded, taken };
}

/** How well a message is kept in each folder. */
function keptIn(folders: readonly StoredFolder[], repeating: readonly RepeatingFolder[]) {
  const imports = new Set(repeating.map(({ folder }) => folder));
  const kept = new Map(folders.map(({ id, role }) => [id, keptInOf(role, imports.has(id))]));
  return (folder: number) => kept.get(folder) ?? (KEPT_IN.at(-1) as (typeof KEPT_IN)[number]);
}

function* foldersOfGroups({ twin, folder }: TwinRows): Generator<number[]> {
  for (let from = 0; from < twin.length; ) {
    let until = from + 1;
    while (twin[until] === twin[from]) until++;
    yield [...folder.subarray(from, until)];
    from = until;
  }
}

async function messagesByFolder(db: Queryable, account: number): Promise<Map<number, number>> {
  const found = await rows<{ folder: number; messages: number }>(
    db,
    'select folder, count(*)::int as messages from placement where account = $1 and gone_at is null group by folder',
    [account],
  );
  return new Map(found.map(({ folder, messages }) => [folder, messages]));
}

/**
 * What lots of copies of the plan must not take, since no other copy would stay though they promised that: of each such group the best of
 * those that they alone hold. Where other lots hold all of them, the person said so in other words. Ids.
 *
 * @param twins where they are known.
 */
export async function brokenTwins(db: Queryable, account: Account, twins?: Twins): Promise<number[]> {
  const promised = await promisedMessages(db, account, 'twins');
  if (promised.length === 0) return [];
  const { rows: found, groups, folders, repeating, guarded } = twins ?? (await twinsOf(db, account));
  const known = new Set(found.id);
  // Where no other copy is left, it is a copy of nothing.
  const staying = promised.filter((id) => !known.has(id));
  const isPromised = new Set(promised);
  const takenByOthers = await takenNow(db, account.id, 'twins');
  const place = keptIn(folders, repeating);
  for (const { rows: members, kept } of groups) {
    if (kept) continue;
    const copies = members.map((row) =>
      copyOf(found, row, {
        isGuarded: (id) => includes(guarded, id),
        isTaken: (id) => !isPromised.has(id) || includes(takenByOthers, id),
        keptIn: place,
      }),
    );
    const best = keptOf(copies, account.settings.keepRules);
    if (best) staying.push(best.id);
  }
  return staying;
}
