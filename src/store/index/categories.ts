import { CATEGORIES, type Category, categoryNumber, type Judgement, judge } from '../../core/categories/categories';
import { signsOf } from '../../core/categories/signs';
import { kindBits } from '../../core/files/kinds';
import { type Account, lockedVersion, nextVersion } from '../access/accounts';
import { overWholeAccount, type Queryable, row, rows } from '../database';
import { filesOfMessage } from './files';

/** What the user said of a sender. */
export interface Correction {
  by: 'address' | 'domain';
  /** Address or registrable domain, folded. */
  key: string;
  category: Category;
}

/** Addresses under which the user is known to write: that of the account, where its name is one. */
export function selfOf(account: Pick<Account, 'user'>): ReadonlySet<string> {
  return new Set(account.user.includes('@') ? [account.user.toLowerCase()] : []);
}

/**
 * What is known of each placement when its category is told, as `fact`: the signs of its message, whether it is the
 * user's own, whether the user wrote to its author, and what the user said of it. $1 is the account, $2 addresses of
 * the user.
 */
const facts = (kept: 'materialized' | 'not materialized') => `
  sent as materialized (
    select p.message from placement p join folder f on f.account = p.account and f.id = p.folder
    where p.account = $1 and p.gone_at is null and f.role = 'sent'),
  -- An address that wrote a tenth of what lies in Sent is the user's; a letter of somebody else filed there is not.
  own_address as materialized (
    select unnest($2::text[]) as address
    union
    select m.from_address from sent join message m on m.account = $1 and m.id = sent.message
    where m.from_address <> '' group by m.from_address having count(*) * 10 >= (select count(*) from sent)),
  written as materialized (
    select distinct r ->> 'address' as address
    from sent join message m on m.account = $1 and m.id = sent.message, jsonb_array_elements(m.recipients) r),
  fact as ${kept} (
    select p.id, p.category, m.signs,
      f.role is not null and f.role in ('sent', 'drafts') or o.address is not null as own,
      w.address is not null as written,
      coalesce(a.category, d.category) as corrected
    from placement p
    join message m on m.account = p.account and m.id = p.message
    join folder f on f.account = p.account and f.id = p.folder
    left join own_address o on o.address = m.from_address
    left join written w on w.address = m.from_address
    left join correction a on a.account = p.account and a.by_what = 'address' and a.key = m.from_address_folded
    left join correction d on d.account = p.account and d.by_what = 'domain' and d.key = m.from_domain
    where p.account = $1 and p.gone_at is null)`;

interface Fact {
  signs: number;
  own: boolean;
  written: boolean;
  corrected: number | null;
}

const judged = ({ signs, own, written, corrected }: Fact): Judgement =>
  judge({ signs, own, written, corrected: corrected === null ? null : (CATEGORIES[corrected] ?? null) });

/**
 * Tells the category of every placement again and writes those that changed, in a transaction of the caller's. The rules
 * stay in core: the database gives each combination of facts that occurs, and takes a category for each.
 */
export async function categorise(db: Queryable, account: Account): Promise<void> {
  const self = [...selfOf(account)];
  await overWholeAccount(db);
  const found = await rows<Fact>(
    db,
    `with ${facts('materialized')} select distinct signs, own, written, corrected from fact where signs is not null`,
    [account.id, self],
  );
  const version = await lockedVersion(db, account.id);
  const changed = await db.query(
    `with ${facts('materialized')}
     update placement p set category = rule.category, changed = $3
     from fact join unnest($4::int[], $5::boolean[], $6::boolean[], $7::int[], $8::int[])
       as rule (signs, own, written, corrected, category)
       on rule.signs = fact.signs and rule.own = fact.own and rule.written = fact.written
       and rule.corrected is not distinct from fact.corrected
     where p.account = $1 and p.id = fact.id and fact.category <> rule.category`,
    [
      account.id,
      self,
      version,
      found.map(({ signs }) => signs),
      found.map(({ own }) => own),
      found.map(({ written }) => written),
      found.map(({ corrected }) => corrected),
      found.map((fact) => categoryNumber(judged(fact).category)),
    ],
  );
  if (changed.rowCount) await nextVersion(db, account.id);
}

/** The category of one placement, and why. */
export async function judgementOf(db: Queryable, account: Account, placement: number): Promise<Judgement | undefined> {
  const fact = await row<Fact>(
    db,
    `with ${facts('not materialized')} select signs, own, written, corrected from fact where id = $3 and signs is not null`,
    [account.id, [...selfOf(account)], placement],
  );
  return fact && judged(fact);
}

const BACKFILL = 2_000;

interface Unread {
  id: number;
  bulkFields: Record<string, string>;
  listId: string;
  authorAddress: string;
  recipients: { address: string }[];
  subject: string;
  files: { name: string; type: string }[];
}

/** Reads the signs of some messages that were indexed before there were any; gives how many. */
export async function readMissingSigns(db: Queryable, account: Account): Promise<number> {
  const unread = await rows<Unread>(
    db,
    `select id, bulk_fields as "bulkFields", list_id as "listId", from_address as "authorAddress", recipients, subject,
       ${filesOfMessage('account', 'id')} as files
     from message where account = $1 and signs is null limit ${BACKFILL}`,
    [account.id],
  );
  if (unread.length === 0) return 0;
  const self = selfOf(account);
  await db.query(
    `update message m set signs = row.signs, kinds = row.kinds
     from unnest($2::bigint[], $3::int[], $4::int[]) as row (id, signs, kinds) where m.account = $1 and m.id = row.id`,
    [
      account.id,
      unread.map(({ id }) => id),
      unread.map((message) => signsOf(message, self)),
      unread.map(({ files }) => kindBits(files)),
    ],
  );
  return unread.length;
}

export async function correctionsOf(db: Queryable, account: number): Promise<Correction[]> {
  const found = await rows<{ by: Correction['by']; key: string; category: number }>(
    db,
    'select by_what as by, key, category from correction where account = $1 order by by_what, key',
    [account],
  );
  return found.map(({ by, key, category }) => ({ by, key, category: CATEGORIES[category] as Category }));
}

/** Keeps what the user says of a sender, null to take it back, and applies it at once. */
export async function correct(
  db: Queryable,
  account: Account,
  { by, key, category }: Omit<Correction, 'category'> & { category: Category | null },
): Promise<void> {
  if (category === null)
    await db.query('delete from correction where account = $1 and by_what = $2 and key = $3', [account.id, by, key]);
  else
    await db.query(
      `insert into correction (account, by_what, key, category) values ($1, $2, $3, $4)
       on conflict (account, by_what, key) do update set category = excluded.category`,
      [account.id, by, key, categoryNumber(category)],
    );
  await categorise(db, account);
}
