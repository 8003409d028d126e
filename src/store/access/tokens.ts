import { randomBytes } from 'node:crypto';
import { type Queryable, row, rows, theRow } from '../database';
import { tellEnded } from '../events';
import { type Account, accountById } from './accounts';
import { hashToken } from './sessions';

/** Told by its beginning, so that one that was published by mistake is found. */
const PREFIX = 'tamsel_';

/** A token for scripts, without the token. */
export interface ApiToken {
  id: number;
  name: string;
  acts: boolean;
  endsAt: Date;
  madeAt: Date;
  usedAt: Date | null;
}

const COLUMNS = 'id, name, acts, ends_at as "endsAt", made_at as "madeAt", used_at as "usedAt"';

/** Makes a token in a transaction of the caller's; it is told here and never again. */
export async function makeToken(
  db: Queryable,
  account: number,
  { name, acts, endsAt }: Pick<ApiToken, 'name' | 'acts' | 'endsAt'>,
): Promise<ApiToken & { token: string }> {
  // Ids are counted up from the highest, so one at a time.
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  const token = PREFIX + randomBytes(32).toString('base64url');
  const made = await theRow<ApiToken>(
    db,
    `insert into api_token (account, id, name, token_hash, acts, ends_at)
     select $1, coalesce(max(id), 0) + 1, $2, $3, $4, $5 from api_token where account = $1 returning ${COLUMNS}`,
    [account, name, hashToken(token), acts, endsAt],
  );
  return { ...made, token };
}

/** Those that live, the newest first. */
export async function tokensOf(db: Queryable, account: number): Promise<ApiToken[]> {
  return rows<ApiToken>(
    db,
    `select ${COLUMNS} from api_token where account = $1 and ends_at > now() order by id desc`,
    [account],
  );
}

/** Takes a token back; false where there is none. Its number is not given again. */
export async function withdrawToken(db: Queryable, account: number, id: number): Promise<boolean> {
  const gone = await db.query(
    'update api_token set ends_at = now() where account = $1 and id = $2 and ends_at > now()',
    [account, id],
  );
  await tellEnded(db);
  return gone.rowCount === 1;
}

/** Whether a token lives. */
export async function tokenLives(db: Queryable, account: number, id: number): Promise<boolean> {
  const found = await row(db, 'select 1 from api_token where account = $1 and id = $2 and ends_at > now()', [
    account,
    id,
  ]);
  return found !== undefined;
}

/** The account that a token is good for, and whether it may change anything; undefined where it does not live. */
export async function accountOfToken(
  db: Queryable,
  token: string,
): Promise<{ account: Account; id: number; acts: boolean } | undefined> {
  const found = await row<{ account: number; id: number; acts: boolean; stale: boolean }>(
    db,
    `select account, id, acts, used_at is null or used_at < now() - interval '1 minute' as stale
     from api_token where token_hash = $1 and ends_at > now()`,
    [hashToken(token)],
  );
  if (!found) return undefined;
  if (found.stale)
    await db.query('update api_token set used_at = now() where account = $1 and id = $2', [found.account, found.id]);
  const account = await accountById(db, found.account);
  return account && { account, id: found.id, acts: found.acts };
}
