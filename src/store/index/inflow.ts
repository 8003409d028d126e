import { CATEGORIES, type Category } from '../../core/categories/categories';
import { trashFolders } from '../../core/mailbox/folders';
import type { Account } from '../access/accounts';
import { type Database, row, rows } from '../database';
import { foldersOf } from './folders';

/** What came in within a month and is still there, the trash left out. */
export interface MonthOfMail {
  messages: number;
  bytes: number;
  byCategory: ReadonlyMap<Category, { messages: number; bytes: number }>;
}

/**
 * What came in and stayed, by month. Months before the first whole one of the mailbox are left out.
 *
 * @param starts of the months, the oldest first, and the end of the last.
 */
export async function monthsOfMail(db: Database, account: Account, starts: readonly Date[]): Promise<MonthOfMail[]> {
  const folders = await foldersOf(db, account.id);
  const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
  const left = [...trash, ...folders.filter(({ repeats }) => repeats).map(({ id }) => id)];
  const [found, oldest] = await Promise.all([
    rows<{ month: number; category: number; messages: number; bytes: number }>(
      db,
      `select width_bucket(received, $3::timestamptz[]) as month, category, count(*)::int as messages, sum(size)::bigint as bytes
       from placement where account = $1 and gone_at is null and folder <> all($2::bigint[]) and received >= $4 and received < $5
       group by 1, 2`,
      [account.id, left, starts, starts[0], starts.at(-1)],
    ),
    row<{ at: Date | null }>(
      db,
      'select min(received) as at from placement where account = $1 and gone_at is null and folder <> all($2::bigint[])',
      [account.id, left],
    ),
  ]);
  const months = Array.from({ length: starts.length - 1 }, () => ({
    messages: 0,
    bytes: 0,
    byCategory: new Map<Category, { messages: number; bytes: number }>(),
  }));
  for (const { month, category, messages, bytes } of found) {
    const of = months[month - 1];
    const name = CATEGORIES[category];
    if (!of || !name) continue;
    of.messages += messages;
    of.bytes += bytes;
    of.byCategory.set(name, { messages, bytes });
  }
  const first = starts.findIndex((start) => oldest?.at != null && start >= oldest.at);
  // A mailbox that had its first message before all of them has all of them.
  return oldest?.at == null ? [] : first < 0 ? [] : months.slice(first);
}
