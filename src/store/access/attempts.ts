import { type Database, rows, transaction } from '../database';

/** What attempts are counted by: an address of the net, a mailbox from there, a mailbox from anywhere. */
export interface Subject {
  name: string;
  /** Attempts within the window; without it they are only counted. */
  most?: number;
  /** Seconds of the window. */
  seconds: number;
}

/** The longest window. */
const MAX_SECONDS = 86_400;

/**
 * Counts an attempt by each of several subjects, or by none where one of them has too many. Subjects are locked in one order
 * while they are counted, so that as many pass as are allowed, however many ask at a time.
 *
 * @returns seconds to wait, 0 where the attempt is allowed, and how many attempts each had before.
 */
export async function countAttempt(
  database: Database,
  subjects: readonly Subject[],
): Promise<{ wait: number; before: number[] }> {
  return transaction(database, async (client) => {
    const names = subjects.map(({ name }) => name);
    const locks = `select pg_advisory_xact_lock(hashtextextended(name, 0)) from (select name from unnest($1::text[]) name order by 1) n`;
    await client.query(locks, [names]);
    const counted = await rows<{ name: string; count: number; oldest: number | null }>(
      client,
      `select s.name, count(a.at)::int as count, extract(epoch from now() - min(a.at))::float8 as oldest
       from unnest($1::text[], $2::int[]) as s (name, seconds)
       left join attempt a on a.subject = s.name and a.at > now() - make_interval(secs => s.seconds) group by s.name`,
      [names, subjects.map(({ seconds }) => seconds)],
    );
    const of = new Map(counted.map((one) => [one.name, one]));
    const before = names.map((name) => of.get(name)?.count ?? 0);
    const waits = subjects.map(({ name, most = Number.POSITIVE_INFINITY, seconds }) => {
      const { count = 0, oldest = 0 } = of.get(name) ?? {};
      return count >= most ? Math.max(1, Math.ceil(seconds - (oldest ?? 0))) : 0;
    });
    const wait = Math.max(0, ...waits);
    if (wait === 0) await client.query('insert into attempt (subject) select unnest($1::text[])', [names]);
    await client.query('delete from attempt where at < now() - make_interval(secs => $1)', [MAX_SECONDS]);
    return { wait, before };
  });
}

/** Takes back the newest attempt of each subject: only failures count. */
export async function forgiveAttempt(database: Database, subjects: readonly Subject[]): Promise<void> {
  await database.query(
    `delete from attempt a using (
       select distinct on (subject) subject, ctid as newest from attempt where subject = any($1::text[]) order by subject, at desc) n
     where a.subject = n.subject and a.ctid = n.newest`,
    [subjects.map(({ name }) => name)],
  );
}
