import { type Queryable, theRow } from './database';

/** Sign-ins that one subject (an address, a host) may try within the window. */
const WINDOW_SECONDS = 300;

/**
 * Counts an attempt.
 *
 * @returns seconds to wait, 0 where the attempt is allowed.
 */
export async function countAttempt(db: Queryable, subject: string, most: number): Promise<number> {
  const { count, oldest } = await theRow<{ count: number; oldest: number | null }>(
    db,
    `select count(*)::int as count, extract(epoch from now() - min(at))::float8 as oldest
     from attempt where subject = $1 and at > now() - make_interval(secs => $2)`,
    [subject, WINDOW_SECONDS],
  );
  if (count >= most) return Math.max(1, Math.ceil(WINDOW_SECONDS - (oldest ?? 0)));
  await db.query('insert into attempt (subject) values ($1)', [subject]);
  await db.query('delete from attempt where at < now() - make_interval(secs => $1)', [WINDOW_SECONDS]);
  return 0;
}

/** Takes back the newest attempt of a subject, which succeeded: only failures count. */
export async function forgiveAttempt(db: Queryable, subject: string): Promise<void> {
  await db.query(
    'delete from attempt where ctid in (select ctid from attempt where subject = $1 order by at desc limit 1)',
    [subject],
  );
}
