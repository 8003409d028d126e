import type { Vault } from '../access/vault';
import { type Queryable, row, theRow } from '../database';
import { bagFaults, NO_RUN } from './bag-entries';
import { digestOfDone } from './batches';
import { digestOfFilesDone } from './file-runs';
import { entriesOf, headOf, isWritten, type LedgerEntry, type LedgerHead } from './ledger-chain';
import { bodyOf, differing, FIELDS } from './ledger-entries';
import { alteredTables, type RunRecord } from './run-record';
import { type Run, runById } from './runs';
import { setDigest } from './set-digest';

export interface ChainReport {
  entries: number;
  /** What does not agree, in sentences; none where all is as it was written. */
  faults: string[];
  head: LedgerHead;
}

/**
 * Checks the ledger of an account: the code of every entry, that none is missing, that each run has its entries and each entry
 * its run, that the tables say of each what its entries say, and that what was done is what was done then, told anew from the
 * index.
 *
 * @param known a head that was kept elsewhere: without one an end that was cut off together with its runs does not show.
 */
export async function verifyLedger(
  db: Queryable,
  vault: Vault,
  account: number,
  known?: Pick<LedgerHead, 'entries' | 'code'>,
): Promise<ChainReport> {
  const entries = await entriesOf(db, account);
  const faults = [...chainFaults(vault, account, entries), ...(await numberFaults(db, account, entries))];
  const byRun = new Map<number, LedgerEntry[]>();
  const ofBags = entries.filter(({ run }) => run === NO_RUN);
  faults.push(...(await bagFaults(db, account, ofBags)));
  for (const entry of entries) if (entry.run !== NO_RUN) byRun.set(entry.run, [...(byRun.get(entry.run) ?? []), entry]);
  for (const [run, own] of byRun) faults.push(...(await runFaults(db, account, run, own)));
  if (known && known.entries > 0) {
    const kept = entries[known.entries - 1];
    if (kept?.code.toString('hex') !== known.code)
      faults.push(`The head that was kept, entry ${known.entries}, is not in this chain.`);
  }
  return { entries: entries.length, faults, head: await headOf(db, account) };
}

function chainFaults(vault: Vault, account: number, entries: readonly LedgerEntry[]): string[] {
  const faults: string[] = [];
  let before: Buffer = Buffer.alloc(0);
  for (const [index, entry] of entries.entries()) {
    if (entry.seq !== index + 1) {
      faults.push(`Entry ${index + 1} is missing.`);
      break;
    }
    const right = isWritten(vault, account, entry, before);
    if (right === undefined) faults.push(`Entry ${entry.seq} was made with a key that is not in the key file.`);
    else if (!right) faults.push(`Entry ${entry.seq} is not what was written, or one before it was changed.`);
    before = entry.code;
  }
  return faults;
}

/** What the numbers that were given out show: an end that was cut off, a run that went, and one that nobody asked for. */
async function numberFaults(db: Queryable, account: number, entries: readonly LedgerEntry[]): Promise<string[]> {
  const faults: string[] = [];
  const { nextEntry, nextRun } = await theRow<{ nextEntry: number; nextRun: number }>(
    db,
    'select next_entry as "nextEntry", next_run as "nextRun" from account where id = $1',
    [account],
  );
  if (nextEntry !== entries.length + 1)
    faults.push(`${nextEntry - 1} entries were written, and ${entries.length} are there.`);
  const askedFor = new Set(entries.filter(({ kind }) => kind === 'asked').map(({ run }) => run));
  const { there } = await theRow<{ there: number[] }>(
    db,
    `select coalesce(array_agg(id order by id), '{}') as there from run where account = $1`,
    [account],
  );
  for (const run of there) if (!askedFor.has(run)) faults.push(`Run ${run} has no entry that asked for it.`);
  if (there.length !== nextRun - 1) faults.push(`${nextRun - 1} runs were begun, and ${there.length} are there.`);
  return faults;
}

async function runFaults(
  db: Queryable,
  account: number,
  id: number,
  entries: readonly LedgerEntry[],
): Promise<string[]> {
  const run = await runById(db, account, id);
  if (!run) return [`Run ${id} is missing.`];
  const faults: string[] = [];
  const said = (kind: LedgerEntry['kind']) => {
    const all = entries.filter((entry) => entry.kind === kind);
    if (all.length > 1 && kind !== 'settled') faults.push(`Run ${id} was ${kind} more than once.`);
    const last = all.at(-1);
    return last && bodyOf(last);
  };
  const compare = (body: Record<string, unknown>, fields: readonly (keyof Run)[]) => {
    for (const field of differing(run, body, fields))
      faults.push(`Run ${id} does not say what its entry says: ${field}.`);
  };
  const asked = said('asked');
  if (asked) {
    compare(asked, FIELDS.asked);
    // An entry of before has the digest of the set as text.
    const [expected, digest] =
      asked.members === undefined
        ? [asked.set, setDigest(run.space === null ? 'members' : 'space_files')]
        : [asked.members, "encode(sha256(convert_to(members::text, 'UTF8')), 'hex')"];
    if ((await digestOfMembers(db, account, id, digest)) !== expected)
      faults.push(`The messages that run ${id} was asked for are not those that it names.`);
  }
  const ended = said('ended');
  const isOver = run.state === 'done' || run.state === 'cancelled';
  if (isOver !== (ended !== undefined)) faults.push(`Run ${id} is ${run.state}, and its entries do not say so.`);
  if (!ended) return faults;
  compare(ended, FIELDS.ended);
  for (const table of await alteredTables(db, account, id, (ended.record ?? {}) as RunRecord))
    faults.push(`What is kept of run ${id} was changed after its end (${table}).`);
  const digest = run.space === null ? digestOfDone(db, account, id, true) : digestOfFilesDone(db, account, id);
  if ((await digest) !== ended.digest) faults.push(`The messages of run ${id} are not those that it ended with.`);
  compare({ settled: said('settled') ?? ended.settled ?? null }, ['settled']);
  return faults;
}

async function digestOfMembers(
  db: Queryable,
  account: number,
  run: number,
  digest: string,
): Promise<string | undefined> {
  const found = await row<{ digest: string }>(
    db,
    `select ${digest} as digest from run where account = $1 and id = $2`,
    [account, run],
  );
  return found?.digest;
}
