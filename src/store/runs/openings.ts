import { type Account, accountAt, accountsInOtherLetters, findOrCreateAccount, tellOwner } from '../access/accounts';
import type { Vault } from '../access/vault';
import { type Queryable, rows } from '../database';
import { appendEntry, isWritten, type LedgerEntry } from './ledger-chain';
import { bodyOf } from './ledger-entries';

/** What somebody who signed in for the owner did: opened the mailbox, or something in it. */
export interface ActOfOther {
  at: string;
  /** Who signed in. */
  by: string;
  what: 'opened' | Exclude<LedgerEntry['kind'], 'opened' | 'by-other'>;
  /** Why it was opened. */
  reason?: string;
  /** Of a run: its number in the other's ledger, and what it was. */
  run?: number;
  action?: string;
  label?: string;
  state?: string;
  asked?: { messages: number; bytes: number };
  done?: { messages: number; bytes: number };
  /** Whether the entry is what was written. */
  sound: boolean;
}

/**
 * Writes down that somebody opened a mailbox for its owner, in their own ledger and in the owner's, in a transaction of the caller's.
 * The owner's account is made where it is not known yet: whoever signs in to it later finds the entry there.
 *
 * @param inboxValidity UIDVALIDITY of the inbox: with it the owner's account is told in other letters too.
 */
export async function noteOpening(
  db: Queryable,
  vault: Vault,
  account: Account,
  { by, reason, inboxValidity }: { by: string; reason: string; inboxValidity: number },
): Promise<void> {
  if (account.signInAs !== '') {
    const own = { ...account, signInAs: '' };
    const owner =
      (await accountAt(db, own)) ??
      (await accountsInOtherLetters(db, own)).find((each) => each.inboxValidity === inboxValidity) ??
      (await findOrCreateAccount(db, own));
    await tellOwner(db, account.id, owner.id);
  }
  await appendEntry(db, vault, account.id, { kind: 'opened', run: 0, body: { by, reason } });
}

/** The newest things that others did in a mailbox for its owner. */
export async function actsOfOthers(
  db: Queryable,
  vault: Vault,
  account: number,
  most: number,
): Promise<{ acts: ActOfOther[]; total: number }> {
  const found = await rows<LedgerEntry & { before: Buffer | null; total: number }>(
    db,
    `select e.seq, e.at, e.kind, e.run, e.body, e.key_id as "keyId", e.code, b.code as before,
       count(*) over ()::int as total
     from ledger_entry e left join ledger_entry b on b.account = e.account and b.seq = e.seq - 1
     where e.account = $1 and e.kind in ('opened', 'by-other') order by e.seq desc limit $2`,
    [account, most],
  );
  const acts = found.map((entry) =>
    actOf(entry, bodyOf(entry), isWritten(vault, account, entry, entry.before ?? Buffer.alloc(0)) === true),
  );
  return { acts, total: found[0]?.total ?? 0 };
}

/** Fields of an entry that are told of an act. */
const SHOWN = ['reason', 'action', 'label', 'state', 'asked', 'done'] as const;

/** The act that an entry tells. @param body what the entry says. */
export function actOf(
  entry: Pick<LedgerEntry, 'at' | 'kind' | 'run'>,
  body: Record<string, unknown>,
  sound: boolean,
): ActOfOther {
  const said = body as Partial<ActOfOther>;
  const shown = Object.fromEntries(SHOWN.flatMap((field) => (said[field] === undefined ? [] : [[field, said[field]]])));
  const what = entry.kind === 'by-other' ? (said.what ?? 'asked') : entry.kind;
  const run = entry.kind === 'by-other' ? said.run : entry.run;
  return { at: entry.at, by: said.by ?? '', what, ...(run ? { run } : {}), ...shown, sound };
}
