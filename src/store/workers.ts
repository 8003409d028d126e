import { type Queryable, theRow } from './database';

/** Tells that a worker lives. */
export async function beat(db: Queryable, worker: string): Promise<void> {
  await db.query('insert into worker (id) values ($1) on conflict (id) do update set seen_at = now()', [worker]);
  await db.query(`delete from worker where seen_at < now() - interval '1 hour'`);
}

/** Whether any worker was heard of within so many seconds. */
export async function workerLives(db: Queryable, seconds: number): Promise<boolean> {
  const { lives } = await theRow<{ lives: boolean }>(
    db,
    'select exists (select 1 from worker where seen_at > now() - make_interval(secs => $1)) as lives',
    [seconds],
  );
  return lives;
}
