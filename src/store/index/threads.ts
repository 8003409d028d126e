import { Threads } from '../../core/threads/threads';
import { nextVersion } from '../access/accounts';
import { overWholeAccount, type Queryable, row, rows } from '../database';

const PAGE = 5_000;

/** Whether some messages came in since threads were joined last. */
export async function hasLooseMessages(db: Queryable, account: number): Promise<boolean> {
  const loose = await row(
    db,
    'select 1 from account a join message m on m.account = a.id and m.id > a.threaded_to where a.id = $1 limit 1',
    [account],
  );
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
  const nodes: number[] = [];
  const stored: (number | null)[] = [];
  for (let after = 0; ; after = ids.at(-1) as number) {
    const page = await rows<{
      id: number;
      messageId: string;
      inReplyTo: string;
      referenceIds: string;
      thread: number | null;
    }>(
      db,
      `select id, message_id as "messageId", in_reply_to as "inReplyTo", reference_ids as "referenceIds", thread
       from message where account = $1 and id > $2 order by id limit ${PAGE}`,
      [account, after],
    );
    for (const { id, thread, referenceIds, ...links } of page) {
      ids.push(id);
      stored.push(thread);
      nodes.push(threads.add({ ...links, references: referenceIds === '' ? [] : referenceIds.split(' ') }));
    }
    if (page.length < PAGE) break;
  }
  const joined: { id: number; thread: number }[] = [];
  for (const [index, id] of ids.entries()) {
    const thread = threads.threadOf(nodes[index] as number, id);
    if (stored[index] !== thread) joined.push({ id, thread });
  }
  await db.query('update account set threaded_to = $2 where id = $1', [account, ids.at(-1) ?? 0]);
  if (joined.length === 0) return;
  await db.query(
    `with new as (
       update message m set thread = row.thread from unnest($2::bigint[], $3::bigint[]) as row (id, thread)
       where m.account = $1 and m.id = row.id returning m.id)
     update placement p set changed = $4 from new where p.account = $1 and p.message = new.id`,
    [account, joined.map(({ id }) => id), joined.map(({ thread }) => thread), await nextVersion(db, account)],
  );
}
