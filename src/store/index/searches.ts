import { type Criteria, eachTest } from '../../core/criteria/tree';
import { parseMultirange, printMultirange, type Ranges } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { type Queryable, row, rows } from '../database';

/** A text that the mail server was asked for, and how far it is. */
export interface Search {
  id: number;
  text: string;
  state: 'queued' | 'running' | 'done' | 'failed';
  folders: { done: number; total: number };
  problem: { kind: string; detail: string } | null;
}

const COLUMNS = `id, wanted as text, state, json_build_object('done', folders_done, 'total', folders_total) as folders, problem`;

/** The texts of an expression that only the mail server can look for, as typed. */
export function textsIn(criteria: Criteria): string[] {
  const texts = new Map<string, string>();
  eachTest(criteria, ({ field, value }) => {
    if (field === 'text' && value.type === 'text') texts.set(fold(value.text), value.text);
  });
  return [...texts.values()];
}

/**
 * Where the server found each text of an expression: live placements, by the text folded. What has not been asked, or
 * changed since, is missing.
 */
export async function textsFound(db: Queryable, account: number, criteria: Criteria): Promise<Map<string, Ranges>> {
  const texts = textsIn(criteria).map(fold);
  if (texts.length === 0) return new Map();
  const found = await rows<{ folded: string; ids: string }>(
    db,
    `select s.folded, coalesce(range_agg(int8range(p.id, p.id + 1)) filter (where p.id is not null), '{}')::text as ids
     from search s join search_found f on f.account = s.account and f.search = s.id
     left join lateral (select p.id from unnest(f.uids) as span cross join lateral (
       select * from placement where account = $1 and generation = f.generation and gone_at is null
       and uid >= lower(span) and uid < upper(span) offset 0) p) p on true
     where s.account = $1 and s.folded = any($2::text[]) group by s.folded`,
    [account, texts],
  );
  return new Map(found.map(({ folded, ids }) => [folded, parseMultirange(ids)]));
}

/** A folder that is to be asked: what was found there before is none or out of date. */
export interface StaleFolder {
  generation: number;
  serverName: string;
  uidValidity: number;
  uidNext: number;
  messages: number;
}

/** The scanned folders in which a text has still to be looked for. */
export async function staleFolders(db: Queryable, account: number, search: number): Promise<StaleFolder[]> {
  return rows<StaleFolder>(
    db,
    `select g.id as generation, f.server_name as "serverName", g.uid_validity as "uidValidity", g.seen_uid_next as "uidNext", g.seen_messages as messages
     from folder f join generation g on g.account = f.account and g.folder = f.id and g.closed_at is null
     left join search_found s on s.account = f.account and s.search = $2 and s.generation = g.id
     where f.account = $1 and f.gone_at is null and not f.repeats and g.seen_messages is not null
     and (s.generation is null or s.uid_next <> g.seen_uid_next or s.messages <> g.seen_messages)
     order by g.seen_messages`,
    [account, search],
  );
}

/** Takes up a text, or finds it where it was asked before; `fresh` where there is nothing left to ask. */
export async function openSearch(
  db: Queryable,
  account: number,
  text: string,
): Promise<{ search: Search; fresh: boolean }> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  await db.query(
    `insert into search (account, id, wanted, folded)
     select $1, (select coalesce(max(id), 0) + 1 from search where account = $1), $2, $3
     on conflict (account, folded) do nothing`,
    [account, text, fold(text)],
  );
  const search = (await row<Search>(db, `select ${COLUMNS} from search where account = $1 and folded = $2`, [
    account,
    fold(text),
  ])) as Search;
  const stale = await staleFolders(db, account, search.id);
  if (stale.length === 0) return { search: { ...search, state: 'done' }, fresh: true };
  if (search.state === 'done' || search.state === 'failed') {
    await updateSearch(db, account, search.id, {
      state: 'queued',
      folders: { done: 0, total: stale.length },
      problem: null,
    });
    return { search: { ...search, state: 'queued', folders: { done: 0, total: stale.length } }, fresh: false };
  }
  return { search, fresh: false };
}

export async function searchById(db: Queryable, account: number, id: number): Promise<Search | undefined> {
  return row<Search>(db, `select ${COLUMNS} from search where account = $1 and id = $2`, [account, id]);
}

export async function updateSearch(
  db: Queryable,
  account: number,
  id: number,
  { state, folders, problem }: Pick<Search, 'state' | 'folders' | 'problem'>,
): Promise<void> {
  await db.query(
    'update search set state = $3, folders_done = $4, folders_total = $5, problem = $6 where account = $1 and id = $2',
    [account, id, state, folders.done, folders.total, problem === null ? null : JSON.stringify(problem)],
  );
}

/** Keeps what the server found in a folder. */
export async function saveFound(
  db: Queryable,
  account: number,
  search: number,
  folder: StaleFolder,
  uids: Ranges,
): Promise<void> {
  await db.query(
    `insert into search_found (account, search, generation, uid_next, messages, uids) values ($1, $2, $3, $4, $5, $6::int8multirange)
     on conflict (account, search, generation) do update
     set uid_next = excluded.uid_next, messages = excluded.messages, uids = excluded.uids`,
    [account, search, folder.generation, folder.uidNext, folder.messages, printMultirange(uids)],
  );
}

/** Has a folder asked again, since something came into it. */
export async function forgetFound(db: Queryable, account: number, generation: number): Promise<void> {
  await db.query('delete from search_found where account = $1 and generation = $2', [account, generation]);
}
