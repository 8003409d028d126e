import { nextNumber } from '../access/accounts';
import { type Queryable, row, rows } from '../database';

/** A rule for mail to come: what matches goes into a folder. */
export interface Rule {
  id: number;
  label: string;
  where: string;
  /** Path. */
  folder: string;
  madeAt: Date;
}

const COLUMNS = 'id, label, criteria as "where", folder, made_at as "madeAt"';

/** In the order in which they decide. */
export async function rulesOf(db: Queryable, account: number): Promise<Rule[]> {
  return rows<Rule>(db, `select ${COLUMNS} from sieve_rule where account = $1 order by id`, [account]);
}

export async function addRule(
  db: Queryable,
  account: number,
  { label, where, folder }: Pick<Rule, 'label' | 'where' | 'folder'>,
): Promise<void> {
  const id = await nextNumber(db, account, 'rule');
  await db.query('insert into sieve_rule (account, id, label, criteria, folder) values ($1, $2, $3, $4, $5)', [
    account,
    id,
    label,
    where,
    folder,
  ]);
}

/** False where there is none. */
export async function removeRule(db: Queryable, account: number, id: number): Promise<boolean> {
  const gone = await db.query('delete from sieve_rule where account = $1 and id = $2', [account, id]);
  return gone.rowCount === 1;
}

export async function removeRules(db: Queryable, account: number): Promise<void> {
  await db.query('delete from sieve_rule where account = $1', [account]);
}

/** The script that was active before ours. */
export interface ScriptBefore {
  name: string | null;
  script: string | null;
}

/** Keeps the script that is active before ours is, the first time. */
export async function keepBefore(db: Queryable, account: number, { name, script }: ScriptBefore): Promise<void> {
  await db.query(
    'insert into sieve_before (account, name, script) values ($1, $2, $3) on conflict (account) do nothing',
    [account, name, script],
  );
}

export async function scriptBefore(
  db: Queryable,
  account: number,
): Promise<(ScriptBefore & { keptAt: Date }) | undefined> {
  return row(db, 'select name, script, kept_at as "keptAt" from sieve_before where account = $1', [account]);
}

export async function forgetBefore(db: Queryable, account: number): Promise<void> {
  await db.query('delete from sieve_before where account = $1', [account]);
}
