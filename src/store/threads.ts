import { Threads } from '../core/threads/threads';
import { nextVersion } from './accounts';
import { overWholeAccount, type Queryable, row, rows } from './database';

const PAGE = 20_000;

/** Whether some messages came in since threads were joined last. */
export async function hasLooseMessages(db: Queryable, account: number): Promise<boolean> {
  const loose = await row(db, 'select 1 from message where account = $1 and thread is null limit 1', [account]);
  return loose !== undefined;
}

/**
 * Joins the messages of an account into threads where some were not yet, and marks the placements whose thread changed,
 * in a transaction of the caller's.
 */
export async function joinThreads(db: Queryable, account: number): Promise<void> {
  if (!(await hasLooseMessages(db, account))) return;
  await overWholeAccount(db);
  const threads = new Threads();
  const ids: number[] = [];
  for (let after = 0; ; after = ids.at(-1) as number) {
    const page = await rows<{ id: number; messageId: string; inReplyTo: string; referenceIds: string }>(
      db,
      `select id, message_id as "messageId", in_reply_to as "inReplyTo", reference_ids as "referenceIds"
       from message where account = $1 and id > $2 order by id limit ${PAGE}`,
      [account, after],
    );
    for (const { id, referenceIds, ...links } of page) {
      ids.push(id);
      threads.add({ ...links, references: referenceIds === '' ? [] : referenceIds.split(' ') });
    }
    if (page.length < PAGE) break;
  }
  const roots = threads.roots();
  await db.query(
    `with new as (
       update message m set thread = row.thread from unnest($2::bigint[], $3::bigint[]) as row (id, thread)
       where m.account = $1 and m.id = row.id and m.thread is distinct from row.thread returning m.id)
     update placement p set changed = $4 from new where p.account = $1 and p.message = new.id`,
    [account, ids, Array.from(roots, (root) => ids[root]), await nextVersion(db, account)],
  );
}
