import type { Queryable } from './database';

/**
 * Writes what is given of a row; what is undefined stays as it is. Objects are written as JSON.
 *
 * @param columns the column of each field.
 * @param where names the row by $1, $2, …, which `key` gives.
 */
export async function updateRow<K extends string>(
  db: Queryable,
  table: string,
  columns: Record<K, string>,
  change: Partial<Record<K, unknown>>,
  where: string,
  key: unknown[],
): Promise<void> {
  const given = (Object.keys(change) as K[]).filter((name) => change[name] !== undefined);
  if (given.length === 0) return;
  const values = given.map((name) => {
    const value = change[name];
    return value !== null && typeof value === 'object' && !(value instanceof Date) ? JSON.stringify(value) : value;
  });
  const set = given.map((name, at) => `${columns[name]} = $${key.length + at + 1}`).join(', ');
  await db.query(`update ${table} set ${set} where ${where}`, [...key, ...values]);
}
