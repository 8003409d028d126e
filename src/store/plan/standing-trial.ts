import { setImmediate as others } from 'node:timers/promises';
import { criteriaToSql } from '../../core/criteria/sql';
import { type Criteria, mentionsPlaces } from '../../core/criteria/tree';
import { pastMonths } from '../../core/forecast/months';
import { KEEP_FILES } from '../../core/guards/guards';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { type Fate, isOfFiles } from '../../core/plan/fates';
import { printMultirange, type Ranges, union } from '../../core/sets/ranges';
import { columnsOfBits, type PastMail, PastMailbox, possibleEver, stillParts } from '../../core/standing/past';
import { MOST_NAMED, TRIAL_MONTHS, type Trial } from '../../core/standing/trial';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, type Queryable, theRow, transaction } from '../database';
import { joinFiles } from '../index/files';
import { guardedNow } from '../index/guarded';
import { unpacked } from '../index/packed';
import { contextOf, foldersInScope } from '../index/selection';

/**
 * Tries a standing lot on the past: at the end of each month that is over, what would have come to it since the end of the month
 * before. Only what is still there is known, with the flags that it has now.
 */
export async function tryOnPast(
  database: Database,
  account: Account,
  criteria: Criteria,
  fate: Fate,
  now: Date,
): Promise<Trial> {
  const guarded = await guardedNow(database, account, now);
  const kept = isOfFiles(fate)
    ? union(guarded.sets.filter(({ kind }) => KEEP_FILES.includes(kind)).map(({ members }) => members))
    : guarded.members;
  const mail = await transaction(database, async (client) => {
    await overWholeAccount(client);
    return readPast(client, account, criteria, isOfFiles(fate), kept, now);
  });
  const past = new PastMailbox(mail, criteria, account.settings.timeZone);
  const gathered = past.matching(now);
  const cared = caredFirst(mail, gathered);
  const [first, ...ends] = pastMonths(now, TRIAL_MONTHS, account.settings.timeZone) as [Date, ...Date[]];
  // What had gathered before the first of the months did not come in them.
  past.take(first);
  const months: Trial['months'] = [];
  let from = first;
  for (const end of ends) {
    // Each takes a while in a large mailbox, and others wait.
    await others();
    const rows = past.take(end);
    months.push({ from: from.toISOString(), ...amountOf(mail, rows) });
    cared.push(...caredFirst(mail, rows));
    from = end;
  }
  return { now: amountOf(mail, gathered), months, cared: [...new Set(cared)].slice(0, MOST_NAMED) };
}

/** Reads what is there of the mail outside the trash: a row a message, or a file. */
async function readPast(
  db: Queryable,
  account: Account,
  criteria: Criteria,
  ofFiles: boolean,
  kept: Ranges,
  now: Date,
): Promise<PastMail> {
  const context = await contextOf(db, account, criteria, now, ofFiles);
  const values: unknown[] = [
    account.id,
    foldersInScope(context.folders, 'mail', account.settings.trashFolder),
    printMultirange(kept),
  ];
  const compiled = (part: Criteria) => {
    const condition = criteriaToSql(part, context, values.length + 1);
    values.push(...condition.values);
    return condition.text;
  };
  const parts = stillParts(criteria).map(compiled);
  const bits = columnsOfBits(parts.length);
  const ofPlaces = mentionsPlaces(criteria);
  // Where a place among others is asked for, the others are needed too.
  const possible = ofPlaces ? 'true' : compiled(possibleEver(criteria));
  const month = ofPlaces ? monthIn(`$${values.push(account.settings.timeZone)}::text`) : '0';
  const files = joinFiles('$1::bigint', ofPlaces);
  const still = (column: number[]) =>
    column.map((part, bit) => `case when ${parts[part]} then ${1 << bit} else 0 end`).join(' + ');
  const packed = (type: 'int4' | 'float8', name: string) => `string_agg(${type}send(r.${name}), ''::bytea) as ${name}`;
  const read = await theRow<Record<string, Buffer | null> & { authors: string | null }>(
    db,
    `select ${[
      packed('int4', 'id'),
      packed('float8', 'received'),
      packed('float8', 'size'),
      packed('int4', 'flags'),
      packed('int4', 'month'),
      packed('int4', 'kept'),
      ...bits.map((_, at) => packed('int4', `still${at}`)),
      ofPlaces ? `string_agg(r.author, E'\\n') as authors` : 'null as authors',
    ].join(', ')} from (
      select p.id::int as id, (extract(epoch from p.received) * 1000000)::float8 as received, p.flags,
        ${ofFiles ? 'coalesce(f.own_size, -1)' : 'p.size'}::float8 as size, m.from_address_folded as author,
        (p.id <@ $3::int8multirange)::int as kept,
        ${month} as month
        ${bits.map((column, at) => `, ${still(column)} as still${at}`).join('')}
      from placement p join message m on m.account = p.account and m.id = p.message ${ofFiles ? files : ''}
      where p.account = $1::bigint and p.gone_at is null and p.folder = any($2::int[]) and ${possible}
      order by p.received desc, p.id desc) r`,
    values,
  );
  const ints = (name: string) => unpacked(read[name] as Buffer | null, 4) as Int32Array;
  const floats = (name: string) => unpacked(read[name] as Buffer | null, 8) as Float64Array;
  const id = ints('id');
  return {
    id,
    received: floats('received'),
    size: floats('size'),
    flags: ints('flags'),
    month: ints('month'),
    kept: ints('kept'),
    author: ofPlaces ? numbered(read.authors, id.length) : new Int32Array(id.length),
    still: bits.map((_, at) => ints(`still${at}`)),
  };
}

/** The months until a message came in, counted from the year 0 where the user is. */
function monthIn(timeZone: string): string {
  const local = `p.received at time zone ${timeZone}`;
  return `(extract(year from ${local}) * 12 + extract(month from ${local}))::int`;
}

/** A number for each text of a list that line feeds part, which no header text holds; 0 for none. */
function numbered(texts: string | null, length: number): Int32Array {
  const numbers = new Map<string, number>([['', 0]]);
  const all = new Int32Array(length);
  for (const [row, text] of (texts ?? '').split('\n').entries()) {
    const number = numbers.get(text) ?? numbers.size;
    numbers.set(text, number);
    all[row] = number;
  }
  return all;
}

const isSet = (flags: number, flag: 'seen' | 'answered' | 'flagged') => (flags & FLAG_BITS[flag]) !== 0;

/** The first row of each message. */
function messagesOf({ id }: PastMail, rows: readonly number[]): number[] {
  return rows.filter((row, at) => at === 0 || id[row] !== id[rows[at - 1] as number]);
}

function amountOf(mail: PastMail, rows: readonly number[]): Trial['now'] {
  const messages = messagesOf(mail, rows);
  const having = (flag: 'seen' | 'answered' | 'flagged') =>
    messages.filter((row) => isSet(mail.flags[row] as number, flag)).length;
  return {
    messages: messages.length,
    bytes: rows.reduce((sum, row) => sum + (mail.size[row] as number), 0),
    seen: having('seen'),
    answered: having('answered'),
    flagged: having('flagged'),
  };
}

/** Ids of messages that somebody cared for: flagged before answered before read, and what came in last first. */
function caredFirst(mail: PastMail, rows: readonly number[]): number[] {
  const care = (row: number) => {
    const flags = mail.flags[row] as number;
    return (isSet(flags, 'flagged') ? 2 : 0) + (isSet(flags, 'answered') ? 1 : 0);
  };
  // Rows are in the order in which they came in, and sorting keeps it.
  const looked = messagesOf(mail, rows).filter((row) => care(row) > 0 || isSet(mail.flags[row] as number, 'seen'));
  return looked
    .sort((a, b) => care(b) - care(a))
    .slice(0, MOST_NAMED)
    .map((row) => mail.id[row] as number);
}
