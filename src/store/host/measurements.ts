import type { Measurement } from '../../core/host/figures';
import { FEWEST_DAYS, type Grown } from '../../core/host/growth';
import { type Database, type Queryable, row, rows, transaction } from '../database';
import { wake } from '../events';
import type { Operator } from './operators';

/** A mailbox that is to be measured, and whose it is to look after. */
export interface DueMailbox {
  operator: number;
  id: number;
}

/** Any number, the same for all workers: who takes what is due waits for the one before. */
const CLAIM_LOCK = 7_466_736;

/** A mailbox that is due, nobody measures, and which somebody can sign in to. */
const CLAIMABLE = `m.due_at <= $1 and (m.lease_until is null or m.lease_until < now()) and o.state = 'active'
  and (m.sealed is not null or (m.host = o.host and m.port = o.port
    and exists (select 1 from host_operator_credential c where c.operator = m.operator)))`;

/**
 * Takes mailboxes that are due, under a lease: of each host no more at a time than so many, by all workers.
 *
 * @param now by which they are due; leases go by the clock of the database.
 */
export async function claimDue(
  database: Database,
  {
    worker,
    now,
    most,
    perHost,
    leaseSeconds,
  }: { worker: string; now: Date; most: number; perHost: number; leaseSeconds: number },
): Promise<DueMailbox[]> {
  return transaction(database, async (client) => {
    const isDue = await row(client, 'select 1 from host_mailbox where due_at <= $1 limit 1', [now]);
    if (!isDue) return [];
    // Else two workers would each see room for all of it at one host.
    await client.query('select pg_advisory_xact_lock($1)', [CLAIM_LOCK]);
    return rows<DueMailbox>(
      client,
      `with host as (
         select host, $3::int - (select count(*) from host_mailbox r where r.host = d.host and r.lease_until >= now()) as room
         from (select distinct host from host_mailbox where due_at <= $1) d),
       taken as (
         select d.operator, d.id from host, lateral (
           select m.operator, m.id, m.due_at from host_mailbox m join host_operator o on o.id = m.operator
           where m.host = host.host and ${CLAIMABLE}
           order by m.due_at, m.operator, m.id limit greatest(host.room, 0)) d
         order by d.due_at, d.operator, d.id limit $4)
       update host_mailbox m set worker = $2, lease_until = now() + make_interval(secs => $5)
       from taken where m.operator = taken.operator and m.id = taken.id
       returning m.operator, m.id`,
      [now, worker, perHost, most, leaseSeconds],
    );
  });
}

/** Moves the leases on of what a worker measures; one that it gave up runs out. */
export async function keepMeasuring(
  db: Queryable,
  worker: string,
  under: readonly DueMailbox[],
  leaseSeconds: number,
): Promise<void> {
  await db.query(
    `update host_mailbox m set lease_until = now() + make_interval(secs => $4)
     from unnest($2::bigint[], $3::int[]) as under (operator, id)
     where m.operator = under.operator and m.id = under.id and m.worker = $1 and m.lease_until is not null`,
    [worker, under.map(({ operator }) => operator), under.map(({ id }) => id), leaseSeconds],
  );
}

/** What is done with a mailbox whose lease a worker holds. */
const LEASED = 'operator = $1 and id = $2 and worker = $3 and lease_until >= now()';

/** Keeps what was measured, unless another worker took the mailbox meanwhile. @param next when it is due again. */
export async function saveMeasurement(
  database: Database,
  { operator, id }: DueMailbox,
  worker: string,
  measured: Measurement,
  next: Date,
): Promise<boolean> {
  return transaction(database, async (client) => {
    const held = await client.query(
      `update host_mailbox set problem = null, attempts = 0, due_at = $4, worker = null, lease_until = null where ${LEASED}`,
      [operator, id, worker, next],
    );
    if (held.rowCount !== 1) return false;
    const { at, used, limit, messages, messageLimit, counted, inbox, trash, junk } = measured;
    await client.query(
      `insert into host_measurement values ($1, $2, ($3::timestamptz at time zone 'UTC')::date, $3,
         $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
       on conflict (operator, mailbox, day) do update set at = excluded.at, used = excluded.used,
         storage_limit = excluded.storage_limit, messages = excluded.messages, message_limit = excluded.message_limit,
         counted_messages = excluded.counted_messages, counted_bytes = excluded.counted_bytes,
         inbox_messages = excluded.inbox_messages, inbox_unseen = excluded.inbox_unseen,
         trash_messages = excluded.trash_messages, trash_bytes = excluded.trash_bytes,
         junk_messages = excluded.junk_messages, junk_bytes = excluded.junk_bytes`,
      [
        ...[operator, id, at, used, limit, messages, messageLimit, counted.messages, counted.bytes],
        ...[inbox.messages, inbox.unseen, trash.messages, trash.bytes, junk.messages, junk.bytes],
      ],
    );
    return true;
  });
}

/** Notes that a mailbox could not be measured. @param again when it is tried again, and whether that counts as a further try. */
export async function saveFailure(
  db: Queryable,
  { operator, id }: DueMailbox,
  worker: string,
  problem: { kind: string; detail: string },
  again: { at: Date; counts: boolean },
): Promise<void> {
  await db.query(
    `update host_mailbox set problem = $4, due_at = $5, attempts = case when $6 then attempts + 1 else 0 end,
       worker = null, lease_until = null where ${LEASED}`,
    [operator, id, worker, JSON.stringify(problem), again.at, again.counts],
  );
}

/** How often in a row a mailbox could not be measured for something that passes. */
export async function attemptsOf(db: Queryable, { operator, id }: DueMailbox): Promise<number> {
  const found = await row<{ attempts: number }>(
    db,
    'select attempts from host_mailbox where operator = $1 and id = $2',
    [operator, id],
  );
  return found?.attempts ?? 0;
}

/** Has mailboxes of an operator measured now. @param only some of them; all without. */
export async function askToMeasure(
  db: Queryable,
  operator: Pick<Operator, 'id'>,
  now: Date,
  only?: readonly number[],
): Promise<number> {
  const asked = await db.query(
    `update host_mailbox set due_at = least(due_at, $2), attempts = 0
     where operator = $1 and ($3::int[] is null or id = any($3::int[]))`,
    [operator.id, now, only ?? null],
  );
  await wake(db);
  return asked.rowCount ?? 0;
}

/** Has those mailboxes of an operator measured now that could not be. */
export async function measureFailed(db: Queryable, operator: number, now: Date): Promise<void> {
  await db.query(
    `update host_mailbox set due_at = least(due_at, $2), attempts = 0 where operator = $1 and problem is not null`,
    [operator, now],
  );
  await wake(db);
}

interface MeasurementRow {
  mailbox: number;
  at: Date;
  used: number | null;
  limit: number | null;
  messages: number | null;
  messageLimit: number | null;
  countedMessages: number;
  countedBytes: number | null;
  inboxMessages: number;
  inboxUnseen: number | null;
  trashMessages: number;
  trashBytes: number | null;
  junkMessages: number;
  junkBytes: number | null;
}

const COLUMNS = `mailbox, at, used, storage_limit as "limit", messages, message_limit as "messageLimit",
  counted_messages as "countedMessages", counted_bytes as "countedBytes", inbox_messages as "inboxMessages",
  inbox_unseen as "inboxUnseen", trash_messages as "trashMessages", trash_bytes as "trashBytes",
  junk_messages as "junkMessages", junk_bytes as "junkBytes"`;

function measurementOf(found: MeasurementRow): Measurement {
  const { at, used, limit, messages, messageLimit } = found;
  return {
    ...{ at, used, limit, messages, messageLimit },
    counted: { messages: found.countedMessages, bytes: found.countedBytes },
    inbox: { messages: found.inboxMessages, unseen: found.inboxUnseen },
    trash: { messages: found.trashMessages, bytes: found.trashBytes },
    junk: { messages: found.junkMessages, bytes: found.junkBytes },
  };
}

/** The last measurement of each mailbox of an operator, by its number. */
export async function lastMeasurements(db: Queryable, operator: number): Promise<Map<number, Measurement>> {
  const found = await rows<MeasurementRow>(
    db,
    `select last.* from host_mailbox m, lateral (
       select ${COLUMNS} from host_measurement h where h.operator = m.operator and h.mailbox = m.id
       order by h.day desc limit 1) last
     where m.operator = $1`,
    [operator],
  );
  return new Map(found.map((each) => [each.mailbox, measurementOf(each)]));
}

/** Measurements of one mailbox, the oldest first. */
export async function measurementsOf(
  db: Queryable,
  operator: number,
  mailbox: number,
  most: number,
): Promise<Measurement[]> {
  const found = await rows<MeasurementRow>(
    db,
    `select ${COLUMNS} from host_measurement where operator = $1 and mailbox = $2 order by day desc limit $3`,
    [operator, mailbox, most],
  );
  return found.map(measurementOf).reverse();
}

/** What measurements of some time tell together. */
export interface Course {
  grown: Grown | null;
  /** Whether nobody read anything: all that came to the inbox is unread still, over at least so many days. */
  unused: boolean;
}

/** Days over which growth is told. */
const GROWTH_DAYS = 90;
/** Days in which nobody read anything, after which a mailbox counts as unused (common practice, no source). */
const UNUSED_DAYS = 30;

/** The course of each mailbox of an operator, by its number. */
export async function coursesOf(db: Queryable, operator: number, now: Date): Promise<Map<number, Course>> {
  const found = await rows<{ mailbox: number; days: number; bytes: number; messages: number; unused: boolean }>(
    db,
    `select mailbox, (max(day) - min(day))::int as days,
       coalesce(sum(greatest(bytes - bytes_before, 0)), 0)::bigint as bytes,
       coalesce(sum(greatest(count - count_before, 0)), 0)::bigint as messages,
       max(day) - min(day) >= $3 and coalesce(bool_and(unseen_before is null or
         (unseen >= unseen_before and unseen - unseen_before = inbox - inbox_before)) filter (where unseen is not null), false) as unused
     from (select mailbox, day, coalesce(used, counted_bytes) as bytes, coalesce(messages, counted_messages) as count,
             inbox_messages as inbox, inbox_unseen as unseen,
             lag(coalesce(used, counted_bytes)) over past as bytes_before,
             lag(coalesce(messages, counted_messages)) over past as count_before,
             lag(inbox_messages) over past as inbox_before, lag(inbox_unseen) over past as unseen_before
           from host_measurement where operator = $1 and at > $2::timestamptz - make_interval(days => $4)
           window past as (partition by mailbox order by day)) steps
     group by mailbox`,
    [operator, now, UNUSED_DAYS, GROWTH_DAYS],
  );
  return new Map(
    found.map(({ mailbox, days, bytes, messages, unused }) => [
      mailbox,
      { grown: days < FEWEST_DAYS ? null : { bytes, messages, days }, unused },
    ]),
  );
}
