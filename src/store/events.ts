import type { Database, Queryable } from './database';
import { isPooled, rows } from './database';

export type EventKind = 'scan' | 'run' | 'level' | 'index' | 'search' | 'bag' | 'repeats' | 'space' | 'upload';

export interface StoredEvent {
  id: number;
  account: number;
  kind: EventKind;
  data: unknown;
}

const CHANNEL = 'tamsel_event';
const WORK_CHANNEL = 'tamsel_work';

/** Tells what happened to whoever watches the account. A notification holds the id alone (8,000 octets are its limit). */
export async function tell(db: Queryable, account: number, kind: EventKind, data: unknown): Promise<void> {
  await db.query(
    `with told as (insert into event (account, kind, data) values ($1, $2, $3) returning id, account)
     select pg_notify('${CHANNEL}', id || ' ' || account) from told`,
    [account, kind, JSON.stringify(data)],
  );
}

export async function eventsAfter(db: Queryable, accounts: readonly number[], after: number): Promise<StoredEvent[]> {
  return rows<StoredEvent>(
    db,
    'select id, account, kind, data from event where account = any($1) and id > $2 order by id limit 500',
    [accounts, after],
  );
}

export async function lastEventId(db: Queryable): Promise<number> {
  return (await rows<{ id: number }>(db, 'select coalesce(max(id), 0) as id from event'))[0]?.id ?? 0;
}

export async function forgetOldEvents(db: Queryable): Promise<void> {
  await db.query(`delete from event where at < now() - interval '1 hour'`);
}

/** Tells that somebody may be signed out: whoever watches finds out whether it is they. */
export async function tellEnded(db: Queryable): Promise<void> {
  await db.query(`select pg_notify('${CHANNEL}', '')`);
}

/** Wakes the workers. */
export async function wake(db: Queryable): Promise<void> {
  await db.query(`select pg_notify('${WORK_CHANNEL}', '')`);
}

/** What a pooler does not pass on is looked for so often. */
const LOOK_MS = 1_000;

/**
 * Listens on a channel with a connection of its own, made again when it breaks. A pooler in transaction mode passes no notifications
 * on: through one, whoever listens is told again and again that there may be something.
 *
 * @param heard told what a notification says; '' also where some may have been missed.
 * @returns stops listening.
 */
export function listen(
  database: Database,
  channel: 'events' | 'work',
  heard: (said: string) => void,
): () => Promise<void> {
  if (isPooled(database)) {
    const looking = setInterval(() => heard(''), LOOK_MS).unref();
    return async () => clearInterval(looking);
  }
  let stopped = false;
  let release: (() => void) | undefined;
  const connect = async (): Promise<void> => {
    if (stopped) return;
    try {
      const client = await database.connect();
      let gone = false;
      const again = () => {
        if (gone) return;
        gone = true;
        client.release(true);
        if (!stopped) setTimeout(() => void connect(), 1_000);
      };
      client.on('notification', ({ payload = '' }) => heard(payload));
      client.on('error', again);
      client.on('end', again);
      release = again;
      await client.query(`listen ${channel === 'events' ? CHANNEL : WORK_CHANNEL}`);
      heard('');
    } catch {
      if (!stopped) setTimeout(() => void connect(), 1_000);
    }
  };
  const first = connect();
  return async () => {
    stopped = true;
    await first;
    release?.();
  };
}
