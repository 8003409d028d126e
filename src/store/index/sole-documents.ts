import { categoryNumber } from '../../core/categories/categories';
import { kindBit } from '../../core/files/kinds';
import { type Account, nextVersion } from '../access/accounts';
import { overWholeAccount, type Queryable, row } from '../database';
import { fileIdsOf } from './files';

const [FROM, TO] = fileIdsOf('b.id');

/** Kinds of files that somebody made and may have nowhere else. */
const DOCUMENTS = kindBit('document') | kindBit('table');

/**
 * Finds the messages of the user's own whose document came from nowhere else: no message of anybody else bears a file of
 * that name and encoded size. In a transaction of the caller's.
 */
export async function findSoleDocuments(db: Queryable, account: Account): Promise<void> {
  await overWholeAccount(db);
  const changed = await db.query(
    `with bearing as materialized (
       select m.id, m.sole_document, bool_or(p.category = $2) as own
       from message m join placement p on p.account = m.account and p.message = m.id and p.gone_at is null
       where m.account = $1 and m.kinds & $3 <> 0 group by m.account, m.id),
     borne as materialized (
       select b.id, b.own, f.name, f.size from bearing b cross join lateral (
         select * from file where account = $1 and id >= ${FROM} and id < ${TO} offset 0) f),
     others as (select distinct name, size from borne where not own),
     found as (
       select borne.id, bool_or(borne.own and others.name is null) as sole
       from borne left join others on others.name = borne.name and others.size = borne.size group by borne.id)
     update message m set sole_document = found.sole from found
     where m.account = $1 and m.id = found.id and m.sole_document is distinct from found.sole returning m.id`,
    [account.id, categoryNumber('own'), DOCUMENTS],
  );
  if (!changed.rowCount) return;
  await db.query('update placement set changed = $3 where account = $1 and message = any($2::bigint[])', [
    account.id,
    changed.rows.map(({ id }: { id: number }) => id),
    await nextVersion(db, account.id),
  ]);
}

/** Whether any message that bears a document was never looked at. */
export async function hasUnseenDocuments(db: Queryable, account: number): Promise<boolean> {
  const found = await row(
    db,
    `select 1 from message m where account = $1 and kinds & $2 <> 0 and sole_document is null
     and exists (select 1 from placement p where p.account = m.account and p.message = m.id and p.gone_at is null) limit 1`,
    [account, DOCUMENTS],
  );
  return found !== undefined;
}
