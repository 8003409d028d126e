import { nextNumber } from './accounts';
import { digestOfDone } from './batches';
import { type Queryable, row, rows } from './database';
import { type Run, runById } from './runs';
import type { Vault } from './vault';

/** An entry of the ledger's chain. Its code covers all of it and the code of the entry before. */
export interface LedgerEntry {
  seq: number;
  at: string;
  kind: 'asked' | 'ended' | 'settled';
  run: number;
  /** JSON. */
  body: string;
  keyId: Buffer;
  code: Buffer;
}

/** The newest entry, to be kept elsewhere: with it a chain that was cut short or made anew shows as well. */
export interface LedgerHead {
  entries: number;
  /** Hexadecimal; empty before the first entry. */
  code: string;
  at: string | null;
}

const COLUMNS = 'seq, at, kind, run, body, key_id as "keyId", code';

/** What the code of an entry covers, a line each. */
function covered(account: number, entry: Omit<LedgerEntry, 'keyId' | 'code'>, before: Buffer): string {
  return [account, entry.seq, before.toString('hex'), entry.at, entry.kind, entry.run, entry.body].join('\n');
}

/** Adds an entry, in a transaction of the caller's, which it makes wait for others of the account. */
export async function appendEntry(
  db: Queryable,
  vault: Vault,
  account: number,
  entry: { kind: LedgerEntry['kind']; run: number; body: Record<string, unknown> },
): Promise<void> {
  const seq = await nextNumber(db, account, 'entry');
  const before = await row<{ code: Buffer }>(db, 'select code from ledger_entry where account = $1 and seq = $2', [
    account,
    seq - 1,
  ]);
  const made = {
    seq,
    at: new Date().toISOString(),
    kind: entry.kind,
    run: entry.run,
    body: JSON.stringify(entry.body),
  };
  const { keyId, code } = vault.codeOf(covered(account, made, before?.code ?? Buffer.alloc(0)));
  await db.query(
    'insert into ledger_entry (account, seq, at, kind, run, body, key_id, code) values ($1, $2, $3, $4, $5, $6, $7, $8)',
    [account, seq, made.at, made.kind, made.run, made.body, keyId, code],
  );
}

export async function headOf(db: Queryable, account: number): Promise<LedgerHead> {
  const last = await row<LedgerEntry>(
    db,
    `select ${COLUMNS} from ledger_entry where account = $1 order by seq desc limit 1`,
    [account],
  );
  return { entries: last?.seq ?? 0, code: last?.code.toString('hex') ?? '', at: last?.at ?? null };
}

export interface Verdict {
  entries: number;
  /** What does not agree, in sentences; none where all is as it was written. */
  faults: string[];
  head: LedgerHead;
}

/**
 * Checks the chain of an account: every code, that the runs say what their entries say, and that what was done of each
 * is what was done then, told anew from the index.
 *
 * @param known a head that was kept elsewhere.
 */
export async function verifyChain(
  db: Queryable,
  vault: Vault,
  account: number,
  known?: Pick<LedgerHead, 'entries' | 'code'>,
): Promise<Verdict> {
  const entries = await rows<LedgerEntry>(db, `select ${COLUMNS} from ledger_entry where account = $1 order by seq`, [
    account,
  ]);
  const faults: string[] = [];
  let before: Buffer = Buffer.alloc(0);
  for (const [index, entry] of entries.entries()) {
    if (entry.seq !== index + 1) {
      faults.push(`Entry ${index + 1} is missing.`);
      break;
    }
    const right = vault.isCodeOf(covered(account, entry, before), entry);
    if (right === undefined) faults.push(`Entry ${entry.seq} was made with a key that is not in the key file.`);
    else if (!right) faults.push(`Entry ${entry.seq} is not what was written, or one before it was changed.`);
    before = entry.code;
  }
  for (const entry of entries) if (entry.kind === 'ended') faults.push(...(await checkRun(db, account, entry)));
  if (known && known.entries > 0) {
    const kept = entries[known.entries - 1];
    if (kept?.code.toString('hex') !== known.code)
      faults.push(`The head that was kept, entry ${known.entries}, is not in this chain.`);
  }
  return { entries: entries.length, faults, head: await headOf(db, account) };
}

async function checkRun(db: Queryable, account: number, entry: LedgerEntry): Promise<string[]> {
  const run = await runById(db, account, entry.run);
  if (!run) return [`Run ${entry.run} is missing.`];
  const said = JSON.parse(entry.body) as Pick<Run, 'state' | 'asked' | 'done' | 'left'> & { digest: string };
  const faults: string[] = [];
  const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);
  for (const key of ['state', 'asked', 'done', 'left'] as const)
    if (!same(run[key], said[key])) faults.push(`Run ${run.id} does not say what its entry says: ${key}.`);
  if ((await digestOfDone(db, account, run.id, true)) !== said.digest)
    faults.push(`The messages of run ${run.id} are not those that it ended with.`);
  return faults;
}
