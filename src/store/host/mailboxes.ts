import type { Stated } from '../../core/host/figures';
import type { Security } from '../access/accounts';
import type { Vault } from '../access/vault';
import { type Queryable, row, rows, theRow } from '../database';

/** A mailbox that an operator looks after. */
export interface HostMailbox {
  id: number;
  host: string;
  port: number;
  security: Security;
  user: string;
  /** Whether it has a password of its own that is kept. */
  hasPassword: boolean;
  note: string;
  stated: Stated;
  /** Why the last try to measure it failed. */
  problem: { kind: string; detail: string } | null;
  /** Whether it is being measured, or waits for it. */
  measuring: boolean;
}

/** What a person says of a mailbox when adding it. */
export interface NewMailbox {
  host: string;
  port: number;
  security: Security;
  user: string;
  bytes: number | null;
  messages: number | null;
  note: string;
}

const COLUMNS = `m.id, m.host, m.port, m.security, m.user_name as "user", m.sealed is not null as "hasPassword", m.note,
  json_build_object('bytes', m.stated_bytes, 'messages', m.stated_messages, 'target', m.target, 'leftOn', m.left_on::text,
    'catchesAll', m.catches_all) as stated,
  m.problem, m.due_at <= $2 and (m.sealed is not null or (m.host = o.host and m.port = o.port)) as measuring`;
const FROM = 'host_mailbox m join host_operator o on o.id = m.operator where m.operator = $1';

/** All mailboxes of an operator. @param now by which one is due. */
export async function mailboxesOf(db: Queryable, operator: number, now: Date): Promise<HostMailbox[]> {
  return rows<HostMailbox>(db, `select ${COLUMNS} from ${FROM} order by m.id`, [operator, now]);
}

export async function mailboxById(
  db: Queryable,
  operator: number,
  id: number,
  now: Date,
): Promise<HostMailbox | undefined> {
  return row<HostMailbox>(db, `select ${COLUMNS} from ${FROM} and m.id = $3`, [operator, now, id]);
}

/** A place by which mailboxes are told apart. */
export function placeKey({ host, port, user }: { host: string; port: number; user: string }): string {
  return JSON.stringify([host, port, user]);
}

/**
 * Adds mailboxes that are not there yet, in a transaction of the caller's; they are due at once.
 *
 * @returns the numbers of those that were added.
 */
export async function addMailboxes(
  db: Queryable,
  operator: number,
  mailboxes: readonly NewMailbox[],
  now: Date,
): Promise<number[]> {
  // Numbers are given out under the lock of the operator's row.
  const { next } = await theRow<{ next: number }>(
    db,
    'update host_operator set next_mailbox = next_mailbox + $2 where id = $1 returning next_mailbox - $2 as next',
    [operator, mailboxes.length],
  );
  const added = await rows<{ id: number }>(
    db,
    `insert into host_mailbox (operator, id, host, port, security, user_name, stated_bytes, stated_messages, note, due_at)
     select $1, $2 + place - 1, host, port, security, user_name, bytes, messages, note, $3
     from unnest($4::text[], $5::int[], $6::text[], $7::text[], $8::bigint[], $9::bigint[], $10::text[])
       with ordinality as given (host, port, security, user_name, bytes, messages, note, place)
     on conflict (operator, host, port, user_name) do nothing returning id`,
    [
      operator,
      next,
      now,
      ...(['host', 'port', 'security', 'user', 'bytes', 'messages', 'note'] as const).map((field) =>
        mailboxes.map((mailbox) => mailbox[field]),
      ),
    ],
  );
  return added.map(({ id }) => id);
}

/** What a person may change of a mailbox. */
export interface MailboxChange {
  bytes?: number | null | undefined;
  messages?: number | null | undefined;
  target?: number | undefined;
  note?: string | undefined;
  leftOn?: string | null | undefined;
  catchesAll?: boolean | undefined;
}

const CHANGED: Record<keyof MailboxChange, string> = {
  bytes: 'stated_bytes',
  messages: 'stated_messages',
  target: 'target',
  note: 'note',
  leftOn: 'left_on',
  catchesAll: 'catches_all',
};

export async function changeMailbox(
  db: Queryable,
  operator: number,
  id: number,
  change: MailboxChange,
): Promise<boolean> {
  const given = (Object.keys(CHANGED) as (keyof MailboxChange)[]).filter((key) => change[key] !== undefined);
  const sets = given.map((key, index) => `${CHANGED[key]} = $${index + 3}`);
  const changed = await db.query(
    `update host_mailbox set ${sets.join(', ') || 'id = id'} where operator = $1 and id = $2`,
    [operator, id, ...given.map((key) => change[key])],
  );
  return changed.rowCount === 1;
}

/** Looks after a mailbox no more, and forgets what was measured of it. */
export async function dropMailbox(db: Queryable, operator: number, id: number): Promise<boolean> {
  const gone = await db.query('delete from host_mailbox where operator = $1 and id = $2', [operator, id]);
  return gone.rowCount === 1;
}

type Placed = Pick<HostMailbox, 'id' | 'host' | 'port' | 'security' | 'user'>;

function ownerOf(operator: number, { id, host, port, security, user }: Placed): string {
  return `host mailbox ${JSON.stringify([operator, id, host, port, security, user])}`;
}

export async function saveMailboxPassword(
  db: Queryable,
  vault: Vault,
  operator: number,
  mailbox: Placed,
  password: string,
): Promise<void> {
  await db.query('update host_mailbox set sealed = $3, problem = null where operator = $1 and id = $2', [
    operator,
    mailbox.id,
    vault.seal(ownerOf(operator, mailbox), password),
  ]);
}

/** Undefined where none is kept, or it can't be unsealed. */
export async function mailboxPassword(
  db: Queryable,
  vault: Vault,
  operator: number,
  mailbox: Placed,
): Promise<string | undefined> {
  const kept = await row<{ sealed: Buffer | null }>(
    db,
    'select sealed from host_mailbox where operator = $1 and id = $2',
    [operator, mailbox.id],
  );
  return kept?.sealed ? vault.unseal(ownerOf(operator, mailbox), kept.sealed) : undefined;
}
