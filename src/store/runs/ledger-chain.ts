import { nextNumber } from '../access/accounts';
import type { Vault } from '../access/vault';
import { type Queryable, row, rows } from '../database';

/** An entry of the ledger's chain. Its code covers all of it and the code of the entry before. */
export interface LedgerEntry {
  seq: number;
  at: string;
  kind: 'asked' | 'ended' | 'settled' | 'bag-held' | 'bag-erased';
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

/** All entries of an account, in their order. */
export async function entriesOf(db: Queryable, account: number): Promise<LedgerEntry[]> {
  return rows<LedgerEntry>(db, `select ${COLUMNS} from ledger_entry where account = $1 order by seq`, [account]);
}

/** Whether an entry is what was written after the entry with this code; undefined where its key is lost. */
export function isWritten(vault: Vault, account: number, entry: LedgerEntry, before: Buffer): boolean | undefined {
  return vault.isCodeOf(covered(account, entry, before), entry);
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
