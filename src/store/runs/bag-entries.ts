import type { Vault } from '../access/vault';
import { type Queryable, rows } from '../database';
import { appendEntry, type LedgerEntry } from './ledger-chain';
import { bodyOf } from './ledger-entries';

/** The number that entries about bags have in place of that of a run. */
export const NO_RUN = 0;

/** What the ledger says of a bag that is held, or that was deleted. */
export interface BagEntry {
  bag: number;
  label: string;
  /** SHA-256 of its manifest, in hexadecimal; null where that can't be read. */
  manifest: string | null;
  files: number;
  bytes: number;
  /** The day before which nobody can delete it, and why; of a hold. */
  until?: string;
  reason?: string;
}

export async function appendBagEntry(
  db: Queryable,
  vault: Vault,
  account: number,
  kind: 'bag-held' | 'bag-erased',
  entry: BagEntry,
): Promise<void> {
  await appendEntry(db, vault, account, { kind, run: NO_RUN, body: { ...entry } });
}

/** Bags that are not held as the ledger says, or that went although nobody deleted them. */
export async function bagFaults(db: Queryable, account: number, entries: readonly LedgerEntry[]): Promise<string[]> {
  const held = new Map<number, string>();
  const erased = new Set<number>();
  for (const entry of entries) {
    const { bag, until } = bodyOf(entry) as Partial<BagEntry>;
    if (bag === undefined) continue;
    if (entry.kind === 'bag-held' && until !== undefined) held.set(bag, until);
    if (entry.kind === 'bag-erased') erased.add(bag);
  }
  const there = await rows<{ id: number; state: string; until: string | null }>(
    db,
    `select id, state, held_until::text as until from bag where account = $1 and id = any($2::int[])`,
    [account, [...new Set([...held.keys(), ...erased])]],
  );
  const bags = new Map(there.map((bag) => [bag.id, bag]));
  const faults: string[] = [];
  for (const [id, until] of held) {
    const bag = bags.get(id);
    if (!bag) faults.push(`Bag ${id}, which is held until ${until}, is missing.`);
    else if (bag.state === 'erased' && !erased.has(id)) faults.push(`Bag ${id} was deleted, and no entry says so.`);
    else if (bag.state !== 'erased' && (bag.until === null || bag.until < until))
      faults.push(`Bag ${id} is held until ${bag.until ?? 'no day'}, and its entry says ${until}.`);
  }
  for (const id of erased)
    if (bags.get(id) && bags.get(id)?.state !== 'erased')
      faults.push(`Bag ${id} is there, and an entry says that it was deleted.`);
  return faults;
}
