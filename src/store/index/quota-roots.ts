import type { Amount } from '../../core/level/level';
import { type Queryable, rows } from '../database';

/** A part of the mailbox that the host limits apart, and what it says of it; octets. */
interface Root {
  name: string;
  used: number | null;
  limit: number | null;
}

/** The same beside what we count in it. */
export interface StoredRoot extends Root {
  counted: Amount;
}

/** The topmost folders whose quota root was never asked for. */
export async function foldersWithoutRoot(
  db: Queryable,
  account: number,
): Promise<{ id: number; serverName: string }[]> {
  return rows(
    db,
    `select id, server_name as "serverName" from folder
     where account = $1 and gone_at is null and not repeats and selectable and quota_root is null and path not like '%/%'
     order by path limit 50`,
    [account],
  );
}

/** Keeps the root of a folder, and what it says, for the folder and all below it. */
export async function saveRootOf(db: Queryable, account: number, folder: number, root: Root | null): Promise<void> {
  await db.query(
    `update folder f set quota_root = $3 from folder top
     where top.account = $1 and top.id = $2 and f.account = $1
       and (f.id = top.id or left(f.path, length(top.path) + 1) = top.path || '/')`,
    [account, folder, root?.name ?? ''],
  );
  if (root) await saveRoot(db, account, root);
}

export async function saveRoot(db: Queryable, account: number, root: Root): Promise<void> {
  await db.query(
    `insert into quota_root (account, name, used, storage_limit) values ($1, $2, $3, $4)
     on conflict (account, name) do update
     set used = excluded.used, storage_limit = excluded.storage_limit, at = now()`,
    [account, root.name, root.used, root.limit],
  );
}

/** Names of the roots that folders belong to. */
export async function rootNames(db: Queryable, account: number): Promise<string[]> {
  const found = await rows<{ name: string }>(
    db,
    `select distinct quota_root as name from folder
     where account = $1 and gone_at is null and quota_root is not null and quota_root <> '' order by 1`,
    [account],
  );
  return found.map(({ name }) => name);
}

/** The roots with what they say and what we count in them; none where all folders share one. */
export async function quotaRoots(db: Queryable, account: number): Promise<StoredRoot[]> {
  if ((await rootNames(db, account)).length < 2) return [];
  return rows<StoredRoot>(
    db,
    `with own as (
       select folder, count(*) as messages, sum(size) as bytes
       from placement where account = $1 and gone_at is null group by folder)
     select r.name, r.used, r.storage_limit as "limit",
       json_build_object('messages', coalesce(sum(own.messages), 0), 'bytes', coalesce(sum(own.bytes), 0)) as counted
     from quota_root r
     join folder f on f.account = r.account and f.quota_root = r.name and f.gone_at is null and not f.repeats
     left join own on own.folder = f.id
     where r.account = $1 group by r.account, r.name, r.used, r.storage_limit order by r.name`,
    [account],
  );
}
