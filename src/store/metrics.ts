import { type Queryable, rows, theRow } from './database';

/** How many of something, by its labels. */
export interface Counted {
  labels: Record<string, string>;
  count: number;
}

/** What an instance holds and does, for whoever watches it. */
export interface InstanceFigures {
  accounts: Counted[];
  operators: number;
  hostMailboxes: number;
  sessions: number;
  workers: number;
  /** Open jobs by kind and state: `running`, or `waiting` though due. */
  jobs: Counted[];
  /** Seconds that the job waits which has waited longest. */
  longestWait: number;
  scans: Counted[];
  runs: Counted[];
  runMessages: Counted[];
  runBytes: Counted[];
  /** Messages that runs left, by reason. */
  left: Counted[];
  indexed: { messages: number; bytes: number };
  archived: { messages: number; bytes: number };
  databaseBytes: number;
}

/** @param workerSeconds within which a worker was heard of that counts. */
export async function instanceFigures(db: Queryable, workerSeconds: number): Promise<InstanceFigures> {
  const by = async (label: string, text: string) =>
    (await rows<{ name: string; count: number }>(db, text)).map(({ name, count }) => ({
      labels: { [label]: name },
      count,
    }));
  const runs = await rows<{ action: string; state: string; runs: number; messages: number; bytes: number }>(
    db,
    `select action, state, count(*)::int as runs, sum(done_messages)::bigint as messages, sum(done_bytes)::bigint as bytes
     from run group by action, state order by action, state`,
  );
  const jobs = await rows<{ kind: string; state: string; count: number }>(
    db,
    `select kind, case when lease_until >= now() then 'running' else 'waiting' end as state, count(*)::int as count
     from job where done_at is null and not_before <= now() group by 1, 2 order by 1, 2`,
  );
  const single = await theRow<{
    operators: number;
    mailboxes: number;
    sessions: number;
    workers: number;
    longest: number;
    messages: number;
    bytes: number;
    saved: number;
    savedBytes: number;
    database: number;
  }>(
    db,
    `select (select count(*) from host_operator)::int as operators,
       (select count(*) from host_mailbox)::int as mailboxes,
       (select count(*) from session where expires_at > now() and seen_at > now() - make_interval(secs => idle_seconds))::int as sessions,
       (select count(*) from worker where seen_at > now() - make_interval(secs => $1))::int as workers,
       (select coalesce(extract(epoch from now() - min(not_before)), 0) from job
        where done_at is null and not_before <= now() and (lease_until is null or lease_until < now()))::float as longest,
       (select coalesce(sum(status_messages), 0) from folder where gone_at is null and not repeats)::bigint as messages,
       (select coalesce(sum(status_bytes), 0) from folder where gone_at is null and not repeats)::bigint as bytes,
       (select coalesce(sum(messages), 0) from bag_part)::bigint as saved,
       (select coalesce(sum(octets), 0) from bag_part)::bigint as "savedBytes",
       pg_database_size(current_database()) as database`,
    [workerSeconds],
  );
  const runsBy = (key: 'runs' | 'messages' | 'bytes') =>
    runs.map(({ action, state, [key]: count }) => ({ labels: { action, state }, count }));
  return {
    accounts: await by('state', 'select state as name, count(*)::int as count from account group by 1 order by 1'),
    scans: await by('state', 'select state as name, count(*)::int as count from scan group by 1 order by 1'),
    left: await by(
      'reason',
      'select reason as name, sum(messages)::bigint as count from run_left group by 1 order by 1',
    ),
    jobs: jobs.map(({ kind, state, count }) => ({ labels: { kind, state }, count })),
    runs: runsBy('runs'),
    runMessages: runsBy('messages'),
    runBytes: runsBy('bytes'),
    operators: single.operators,
    hostMailboxes: single.mailboxes,
    sessions: single.sessions,
    workers: single.workers,
    longestWait: single.longest,
    indexed: { messages: single.messages, bytes: single.bytes },
    archived: { messages: single.saved, bytes: single.savedBytes },
    databaseBytes: single.database,
  };
}
