import { type Queryable, row } from '../database';

/** Of one account; the one that was seen least lately makes room. */
const MAX_KNOWN = 50;

/**
 * Notes that a browser signed in to an account.
 *
 * @returns whether it was known; `first` where none was.
 */
export async function noteBrowser(
  db: Queryable,
  account: number,
  cookieHash: Buffer,
): Promise<'known' | 'new' | 'first'> {
  const found = await row<{ any: boolean; own: boolean }>(
    db,
    `select count(*) > 0 as any, coalesce(bool_or(cookie_hash = $2), false) as own from known_browser where account = $1`,
    [account, cookieHash],
  );
  await db.query(
    `insert into known_browser (account, cookie_hash) values ($1, $2)
     on conflict (account, cookie_hash) do update set seen_at = now()`,
    [account, cookieHash],
  );
  await db.query(
    `delete from known_browser where account = $1 and cookie_hash in (
       select cookie_hash from known_browser where account = $1 order by seen_at desc offset $2)`,
    [account, MAX_KNOWN],
  );
  if (found?.own) return 'known';
  return found?.any ? 'new' : 'first';
}
