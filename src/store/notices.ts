import { type Queryable, row } from './database';

/** A mail to the user that waits for the submission server. */
export interface WaitingNotice {
  account: number;
  id: number;
  recipient: string;
  subject: string;
  body: string;
  attempts: number;
}

/** Mails of one account within a day (UTC). */
const MAX_PER_DAY = 20;

/** Has a mail sent. False where the account has had as many today as it may. */
export async function addNotice(
  db: Queryable,
  account: number,
  notice: Pick<WaitingNotice, 'recipient' | 'subject' | 'body'>,
): Promise<boolean> {
  await db.query('delete from mail_sent where account = $1 and day < current_date', [account]);
  const counted = await row(
    db,
    `insert into mail_sent (account, day, mails) values ($1, current_date, 1)
     on conflict (account, day) do update set mails = mail_sent.mails + 1 where mail_sent.mails < $2 returning mails`,
    [account, MAX_PER_DAY],
  );
  if (!counted) return false;
  await db.query('insert into notice (account, recipient, subject, body) values ($1, $2, $3, $4)', [
    account,
    notice.recipient,
    notice.subject,
    notice.body,
  ]);
  return true;
}

/** Locks the next notice that is due for the transaction; other workers pass it by. */
export async function nextNotice(db: Queryable): Promise<WaitingNotice | undefined> {
  return row<WaitingNotice>(
    db,
    `select account, id, recipient, subject, body, attempts from notice where not_before <= now()
     order by id limit 1 for update skip locked`,
  );
}

/** It was taken, or will never be. */
export async function dropNotice(db: Queryable, { account, id }: WaitingNotice): Promise<void> {
  await db.query('delete from notice where account = $1 and id = $2', [account, id]);
}

export async function postponeNotice(db: Queryable, { account, id }: WaitingNotice, seconds: number): Promise<void> {
  await db.query(
    `update notice set attempts = attempts + 1, not_before = now() + make_interval(secs => $3) where account = $1 and id = $2`,
    [account, id, seconds],
  );
}
