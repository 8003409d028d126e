import type { Target } from '../../core/level/level';
import type { ChosenRoles } from '../../core/mailbox/roles';
import { KEEP_RULES, type KeepRule } from '../../core/repeats/keeper';
import type { UnitSystem } from '../../core/units';
import { type Database, type Queryable, row, rows, theRow, transaction } from '../database';
import { tellEnded } from '../events';
import { dropCredential } from './credentials';

export type Security = 'tls' | 'starttls' | 'none';

export interface Account {
  id: number;
  host: string;
  port: number;
  security: Security;
  user: string;
  /** Who signs in, where that is another; else ''. */
  signInAs: string;
  state: 'active' | 'locked';
  settings: Settings;
  personalPrefix: string;
}

/** What the user chose for an account; defaults fill what was never chosen. */
export interface Settings {
  target: Target;
  /** Octets; for servers that tell no limit. */
  limit: number | null;
  /** Path, where the server marks none as trash. */
  trashFolder: string | null;
  /** What folders are for, as the user confirmed; null before that. */
  roles: ChosenRoles | null;
  /** Days after which the server drops what lies in the trash, as the user states it. */
  trashDays: number | null;
  /** Shares of the limit at which the host warns, and stops sending or receiving, as the user states them. */
  thresholds: { warning?: number; sending?: number; receiving?: number };
  /** IANA name. */
  timeZone: string;
  units: UnitSystem;
  /** When a mail tells of the end of a scan or run: `long` is one of more than a minute. */
  mailWhen: 'never' | 'long' | 'always';
  /** Where mail goes: an address that was confirmed by a code. Without one none is sent. */
  mailTo: string | null;
  /** Whether a mail tells of a sign-in from a browser that was not used before. */
  mailNewBrowser: boolean;
  /** A mail tells when so large a share of the limit is in use; null: none. */
  mailAbove: number | null;
  /** Whether a mail of three sentences comes each month. */
  mailMonthly: boolean;
  /** Hours after which the mailbox is scanned by itself; null: only when somebody asks. */
  scanEveryHours: number | null;
  /** What decides which copy of a message stays, in this order. */
  keepRules: KeepRule[];
}

const DEFAULTS: Settings = {
  target: { share: 0.8 },
  limit: null,
  trashFolder: null,
  roles: null,
  trashDays: null,
  thresholds: {},
  timeZone: 'UTC',
  units: 'binary',
  mailWhen: 'never',
  mailTo: null,
  mailNewBrowser: false,
  mailAbove: null,
  mailMonthly: false,
  scanEveryHours: null,
  keepRules: [...KEEP_RULES],
};

const COLUMNS =
  'id, host, port, security, user_name as "user", sign_in_as as "signInAs", state, settings, personal_prefix as "personalPrefix"';

function completed(account: Account): Account {
  return { ...account, settings: { ...DEFAULTS, ...account.settings } };
}

/** One account a normalised (host, port, user, who signs in), whatever the spelling of the host. */
export async function findOrCreateAccount(
  db: Queryable,
  access: { host: string; port: number; security: Security; user: string; signInAs?: string | undefined },
): Promise<Account> {
  const account = await theRow<Account>(
    db,
    `insert into account (host, port, security, user_name, sign_in_as) values ($1, $2, $3, $4, $5)
     on conflict (host, port, user_name, sign_in_as) do update set security = excluded.security
     returning ${COLUMNS}`,
    [access.host, access.port, access.security, access.user, access.signInAs ?? ''],
  );
  return completed(account);
}

/** Has the ledger of another account, the owner's, tell what is done in this one. */
export async function tellOwner(db: Queryable, account: number, owner: number): Promise<void> {
  await db.query('update account set told = $2 where id = $1', [account, owner]);
}

/** The account of a mailbox; undefined where it is not known. */
export async function accountAt(
  db: Queryable,
  { host, port, user, signInAs }: Pick<Account, 'host' | 'port' | 'user' | 'signInAs'>,
): Promise<Account | undefined> {
  const account = await row<Account>(
    db,
    `select ${COLUMNS} from account where host = $1 and port = $2 and user_name = $3 and sign_in_as = $4`,
    [host, port, user, signInAs],
  );
  return account && completed(account);
}

export async function countAccounts(db: Queryable): Promise<number> {
  return (await theRow<{ count: number }>(db, 'select count(*)::int as count from account')).count;
}

/** Accounts at the same server whose user has the same name in other letter case, with the UIDVALIDITY of their inboxes. */
export async function accountsInOtherLetters(
  db: Queryable,
  { host, port, user, signInAs }: { host: string; port: number; user: string; signInAs: string },
): Promise<{ id: number; user: string; inboxValidity: number }[]> {
  return rows(
    db,
    `select a.id, a.user_name as "user", g.uid_validity as "inboxValidity" from account a
     join folder f on f.account = a.id and f.role = 'inbox' and f.gone_at is null
     join generation g on g.account = a.id and g.folder = f.id and g.closed_at is null
     where a.host = $1 and a.port = $2 and a.user_name <> $3 and lower(a.user_name) = lower($3) and a.sign_in_as = $4
     order by a.id limit 10`,
    [host, port, user, signInAs],
  );
}

export async function accountById(db: Queryable, id: number): Promise<Account | undefined> {
  const account = await row<Account>(db, `select ${COLUMNS} from account where id = $1`, [id]);
  return account && completed(account);
}

export async function accountsOfSession(db: Queryable, tokenHash: Buffer): Promise<Account[]> {
  const found = await rows<Account>(
    db,
    `select ${COLUMNS} from account join session_account sa on sa.account = account.id where sa.token_hash = $1 order by id`,
    [tokenHash],
  );
  return found.map(completed);
}

export async function saveSettings(db: Queryable, account: number, changes: Partial<Settings>): Promise<void> {
  await db.query('update account set settings = settings || $2::jsonb where id = $1', [
    account,
    JSON.stringify(changes),
  ]);
}

export async function savePersonalPrefix(db: Queryable, account: number, prefix: string): Promise<void> {
  await db.query('update account set personal_prefix = $2 where id = $1', [account, prefix]);
}

/** Whether all messages are to be judged again; not any more, after this. */
export async function takeFinalizing(db: Queryable, account: number): Promise<boolean> {
  const taken = await db.query('update account set unsettled = false where id = $1 and unsettled', [account]);
  return taken.rowCount === 1;
}

export async function needsFinalizing(db: Queryable, account: number): Promise<boolean> {
  return (
    (await row<{ unsettled: boolean }>(db, 'select unsettled from account where id = $1', [account]))?.unsettled ??
    false
  );
}

/** Erases the account with its index, ledger and credentials. */
export async function eraseAccount(database: Database, account: number): Promise<void> {
  await transaction(database, async (client) => {
    // Waits for what a job is writing; it can't write again, since it has to lock its row for that.
    await client.query('delete from job where account = $1', [account]);
    await dropCredential(client, account);
    // These have no foreign key that would delete them.
    for (const table of [
      ...['words', 'placement', 'file', 'message', 'twin_digest', 'file_digest', 'picture_look', 'echo', 'thread_read'],
      ...['space_file', 'space_folder'],
    ])
      await client.query(`delete from ${table} where account = $1`, [account]);
    await client.query('delete from account where id = $1', [account]);
    await tellEnded(client);
  });
}

/** Takes the number of the next scan, lot, run, guard or entry of the ledger. */
export async function nextNumber(
  db: Queryable,
  account: number,
  of: 'scan' | 'lot' | 'run' | 'guard' | 'entry' | 'bag' | 'standing' | 'rule' | 'space' | 'upload',
): Promise<number> {
  const { number } = await theRow<{ number: number }>(
    db,
    `update account set next_${of} = next_${of} + 1 where id = $1 returning next_${of} - 1 as number`,
    [account],
  );
  return number;
}

/**
 * Takes a block of placement and message ids, and the version with which they come into the index, as nextVersion does;
 * gives the first id.
 */
export async function takeIds(
  db: Queryable,
  account: number,
  count: number,
): Promise<{ first: number; version: number }> {
  return theRow<{ first: number; version: number }>(
    db,
    `update account set next_id = next_id + $2, index_version = index_version + 1
     where id = $1 returning next_id - $2 as first, index_version as version`,
    [account, count],
  );
}

/**
 * Counts up the version of the account's index, and locks the account until the transaction ends. Whatever changes a
 * placement takes one first and writes it to the placement, so that versions follow each other as the commits do.
 */
export async function nextVersion(db: Queryable, account: number): Promise<number> {
  const { version } = await theRow<{ version: number }>(
    db,
    'update account set index_version = index_version + 1 where id = $1 returning index_version as version',
    [account],
  );
  return version;
}

/** The version of the index as it is. */
export async function versionOf(db: Queryable, account: number): Promise<number> {
  const { version } = await theRow<{ version: number }>(
    db,
    'select index_version as version from account where id = $1',
    [account],
  );
  return version;
}

/** Locks the account and gives the version that the next change will have, for changes that may turn out to be none. */
export async function lockedVersion(db: Queryable, account: number): Promise<number> {
  const { version } = await theRow<{ version: number }>(
    db,
    'select index_version + 1 as version from account where id = $1 for no key update',
    [account],
  );
  return version;
}
