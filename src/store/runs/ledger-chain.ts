import { nextNumber } from '../access/accounts';
import type { Vault } from '../access/vault';
import { type Queryable, row, rows } from '../database';

/** An entry of the ledger's chain. Its code covers all of it and the code of the entry before. */
export interface LedgerEntry {
  seq: number;
  at: string;
  kind: 'asked' | 'ended' | 'settled' | 'bag-held' | 'bag-erased' | 'opened' | 'by-other';
  /** 0 of what is no run's. */
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

/** What an entry is made of. */
interface NewEntry {
  kind: LedgerEntry['kind'];
  run: number;
  body: Record<string, unknown>;
}

/**
 * Adds an entry, in a transaction of the caller's, which it makes wait for others of the account. Where somebody else signed in for
 * the owner, the owner's own ledger tells of it too.
 */
export async function appendEntry(db: Queryable, vault: Vault, account: number, entry: NewEntry): Promise<void> {
  await addEntry(db, vault, account, entry);
  const owner = await row<{ told: number; by: string }>(
    db,
    'select told, sign_in_as as by from account where id = $1 and told is not null',
    [account],
  );
  if (owner) await addEntry(db, vault, owner.told, entryForOwner(entry, owner.by));
}

/** Fields of an entry that its owner is told of; the others are digests, or lists that only its own account can be held against. */
const TOLD_FIELDS = ['action', 'label', 'state', 'asked', 'done', 'reason', 'bag', 'until'] as const;

function entryForOwner({ kind, run, body }: NewEntry, by: string): NewEntry {
  const told = Object.fromEntries(TOLD_FIELDS.flatMap((field) => (field in body ? [[field, body[field]]] : [])));
  return kind === 'opened' ? { kind, run, body } : { kind: 'by-other', run: 0, body: { by, what: kind, run, ...told } };
}

async function addEntry(db: Queryable, vault: Vault, account: number, entry: NewEntry): Promise<void> {
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
