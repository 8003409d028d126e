import type { Security } from '../access/accounts';
import { endEmptySession, hashToken, LIVES } from '../access/sessions';
import type { Vault } from '../access/vault';
import { type Queryable, row, rows, theRow } from '../database';
import { tellEnded } from '../events';

/** Somebody who looks after mailboxes of others at a mail host. */
export interface Operator {
  id: number;
  host: string;
  port: number;
  security: Security;
  user: string;
  /** A mailbox that the host let them open. */
  proof: string;
  state: 'active' | 'locked';
  /** Whether mailboxes are measured each day, also while nobody is signed in. */
  daily: boolean;
}

const COLUMNS = 'o.id, o.host, o.port, o.security, o.user_name as "user", o.proof, o.state, o.daily';

/** One operator a normalised (host, port, user). */
export async function findOrCreateOperator(
  db: Queryable,
  at: { host: string; port: number; security: Security; user: string; proof: string },
): Promise<Operator> {
  return theRow<Operator>(
    db,
    `insert into host_operator as o (host, port, security, user_name, proof) values ($1, $2, $3, $4, $5)
     on conflict (host, port, user_name) do update set security = excluded.security, proof = excluded.proof
     returning ${COLUMNS}`,
    [at.host, at.port, at.security, at.user, at.proof],
  );
}

export async function operatorById(db: Queryable, id: number): Promise<Operator | undefined> {
  return row<Operator>(db, `select ${COLUMNS} from host_operator o where o.id = $1`, [id]);
}

export async function operatorsOfSession(db: Queryable, tokenHash: Buffer): Promise<Operator[]> {
  return rows<Operator>(
    db,
    `select ${COLUMNS} from host_operator o join session_operator so on so.operator = o.id
     where so.token_hash = $1 order by o.id`,
    [tokenHash],
  );
}

export async function addOperatorToSession(db: Queryable, token: string, operator: number): Promise<void> {
  await db.query(
    `insert into session_operator (token_hash, operator) values ($1, $2)
     on conflict (token_hash, operator) do update set proved_at = now()`,
    [hashToken(token), operator],
  );
}

export async function changeDaily(db: Queryable, operator: number, daily: boolean): Promise<void> {
  await db.query('update host_operator set daily = $2 where id = $1', [operator, daily]);
}

/** Takes an operator out of a session, and forgets passwords that nobody needs any more. */
export async function leaveOperator(db: Queryable, tokenHash: Buffer, operator: number): Promise<void> {
  await db.query('delete from session_operator where token_hash = $1 and operator = $2', [tokenHash, operator]);
  await endEmptySession(db, tokenHash);
  await forgetOperators(db);
  await tellEnded(db);
}

/** Erases an operator with the mailboxes that they looked after, and every measurement of these. */
export async function eraseOperator(db: Queryable, operator: number): Promise<void> {
  await db.query('delete from host_operator where id = $1', [operator]);
  await tellEnded(db);
}

/** For this a password is sealed: elsewhere it does not open. */
function ownerOf({ id, host, port, security, user }: Operator): string {
  return `host operator ${JSON.stringify([id, host, port, security, user])}`;
}

/** Keeps an operator's password, and opens what was locked for want of it. */
export async function saveOperatorPassword(
  db: Queryable,
  vault: Vault,
  operator: Operator,
  password: string,
): Promise<void> {
  await db.query(
    `insert into host_operator_credential (operator, sealed) values ($1, $2)
     on conflict (operator) do update set sealed = excluded.sealed, stored_at = now()`,
    [operator.id, vault.seal(ownerOf(operator), password)],
  );
  await db.query(`update host_operator set state = 'active', refusals = 0 where id = $1`, [operator.id]);
}

/** Undefined where none is kept, or it can't be unsealed: then the operator has to sign in again. */
export async function operatorPassword(db: Queryable, vault: Vault, operator: Operator): Promise<string | undefined> {
  const kept = await row<{ sealed: Buffer }>(db, 'select sealed from host_operator_credential where operator = $1', [
    operator.id,
  ]);
  return kept && vault.unseal(ownerOf(operator), kept.sealed);
}

/** Notes that the host let an operator into a mailbox. */
export async function noteAdmitted(db: Queryable, operator: number): Promise<void> {
  await db.query('update host_operator set refusals = 0 where id = $1 and refusals > 0', [operator]);
}

/** Notes that the host refused a mailbox to an operator; gives how many it refused in a row. */
export async function noteRefused(db: Queryable, operator: number): Promise<number> {
  const noted = await row<{ refusals: number }>(
    db,
    'update host_operator set refusals = refusals + 1 where id = $1 returning refusals',
    [operator],
  );
  return noted?.refusals ?? 0;
}

/** Has nobody sign in for an operator any more, until they do so themselves. */
export async function lockOperator(db: Queryable, operator: number): Promise<void> {
  await db.query(`update host_operator set state = 'locked' where id = $1`, [operator]);
}

/** Forgets the passwords of operators whom no living session holds, and who did not ask to be measured for each day. */
export async function forgetOperators(db: Queryable): Promise<void> {
  const unheld = `not o.daily and not exists (
    select 1 from session_operator so join session s using (token_hash) where so.operator = o.id and ${LIVES})`;
  await db.query(`delete from host_operator_credential c using host_operator o where o.id = c.operator and ${unheld}`);
  await db.query(
    `update host_mailbox m set sealed = null from host_operator o
     where o.id = m.operator and m.sealed is not null and ${unheld}`,
  );
}
