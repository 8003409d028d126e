import type { Vault } from '../access/vault';
import { type Queryable, rows } from '../database';
import { isWritten, type LedgerEntry } from '../runs/ledger-chain';
import { bodyOf } from '../runs/ledger-entries';
import { type ActOfOther, actOf } from '../runs/openings';
import type { Operator } from './operators';

/**
 * What an operator did in mailboxes that they look after, the newest first: as the ledgers of the accounts tell it in which they worked.
 * Of a mailbox that they opened with its own password, the ledger is its owner's, and only what they opened counts as theirs.
 */
export async function actsOfOperator(
  db: Queryable,
  vault: Vault,
  operator: Operator,
  most: number,
): Promise<{ acts: (ActOfOther & { user: string })[]; total: number }> {
  const found = await rows<LedgerEntry & { account: number; user: string; before: Buffer | null; total: number }>(
    db,
    `select a.id as account, a.user_name as "user", e.seq, e.at, e.kind, e.run, e.body, e.key_id as "keyId", e.code,
       b.code as before, count(*) over ()::int as total
     from host_mailbox m
     join account a on a.host = m.host and a.port = m.port and a.user_name = m.user_name and a.sign_in_as in ('', $2)
     join ledger_entry e on e.account = a.id
     left join ledger_entry b on b.account = e.account and b.seq = e.seq - 1
     where m.operator = $1 and (a.sign_in_as = $2 and e.kind <> 'by-other'
       or a.sign_in_as = '' and m.sealed is not null and e.kind = 'opened' and e.body::jsonb ->> 'by' = $2)
     order by e.at desc, e.account, e.seq desc limit $3`,
    [operator.id, operator.user, most],
  );
  const acts = found.map(({ account, user, before, total: _, ...entry }) => ({
    user,
    ...actOf(entry, bodyOf(entry), isWritten(vault, account, entry, before ?? Buffer.alloc(0)) === true),
    by: operator.user,
  }));
  return { acts, total: found[0]?.total ?? 0 };
}
