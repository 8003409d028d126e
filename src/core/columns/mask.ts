import { type Category, categoryNumber } from '../categories/categories';
import { instantOfAge, instantsOfDay } from '../criteria/instants';
import { printCriteria } from '../criteria/print';
import { type Criteria, type Field, type FieldTest, type FlagTest, type Operator, PLACES } from '../criteria/tree';
import { type FileKind, kindBit } from '../files/kinds';
import { FLAG_BITS } from '../mailbox/flags';
import { fold } from '../text';
import { OCTETS_IN } from '../units';
import type { Columns } from './columns';

/** What an expression over columns is read against. */
export interface ColumnsContext {
  now: Date;
  /** IANA name. */
  timeZone: string;
  /** For what the columns do not carry: the rows that meet a test, by its `outsideKey`. A missing one counts as none. */
  outside: ReadonlyMap<string, Uint8Array>;
}

/** Fields that the columns do not carry: PostgreSQL or the mail server tells the rows. */
const OUTSIDE: ReadonlySet<Field> = new Set(['subject', 'to', 'file', 'text', ...PLACES]);

/** The tests of an expression that the columns can't answer, without their negation, each once; by key. */
export function outsideTests(criteria: Criteria): Map<string, Criteria> {
  const found = new Map<string, Criteria>();
  const visit = (part: Criteria): void => {
    if (part.kind === 'not') visit(part.of);
    else if (part.kind === 'any' || part.kind === 'all') part.of.forEach(visit);
    else if ((part.kind === 'test' && OUTSIDE.has(part.field)) || (part.kind === 'flag' && part.name === 'guarded'))
      found.set(outsideKey(part), positive(part));
  };
  visit(criteria);
  return found;
}

/** The key of a test that the columns can't answer: how it prints without its negation. */
function outsideKey(test: Criteria): string {
  return printCriteria(positive(test));
}

function positive(test: Criteria): Criteria {
  if (test.kind !== 'test' || !test.op.startsWith('!')) return test;
  return { ...test, op: test.op === '!=' ? '=' : '~' };
}

/**
 * Compiles criteria to the rows that meet them.
 *
 * @returns one octet a row, 1 where it does. Fresh, so the caller may change it.
 */
export function criteriaToMask(criteria: Criteria, columns: Columns, context: ColumnsContext): Uint8Array {
  switch (criteria.kind) {
    case 'everything':
      return new Uint8Array(columns.length).fill(1);
    case 'any':
      return combined(criteria.of, columns, context, (into, from) => {
        for (let row = 0; row < into.length; row++) into[row] = (into[row] as number) | (from[row] as number);
      });
    case 'all':
      return combined(criteria.of, columns, context, (into, from) => {
        for (let row = 0; row < into.length; row++) into[row] = (into[row] as number) & (from[row] as number);
      });
    case 'not':
      return inverted(criteriaToMask(criteria.of, columns, context));
    case 'flag':
      return criteria.name === 'guarded' ? outside(criteria, columns, context) : flagMask(criteria.name, columns);
    case 'test':
      return testMask(criteria, columns, context);
  }
}

function combined(
  parts: readonly Criteria[],
  columns: Columns,
  context: ColumnsContext,
  merge: (into: Uint8Array, from: Uint8Array) => void,
): Uint8Array {
  const [first, ...rest] = parts.map((part) => criteriaToMask(part, columns, context)) as [Uint8Array, ...Uint8Array[]];
  for (const mask of rest) merge(first, mask);
  return first;
}

function inverted(mask: Uint8Array): Uint8Array {
  for (let row = 0; row < mask.length; row++) mask[row] = (mask[row] as number) ^ 1;
  return mask;
}

function outside(test: Criteria, columns: Columns, context: ColumnsContext): Uint8Array {
  return context.outside.get(outsideKey(test))?.slice() ?? new Uint8Array(columns.length);
}

function flagMask(name: Exclude<FlagTest, 'guarded'>, { flags }: Columns): Uint8Array {
  const wanted = name.startsWith('un') ? 0 : 1;
  const bit = FLAG_BITS[name.replace(/^un/, '') as keyof typeof FLAG_BITS];
  const mask = new Uint8Array(flags.length);
  for (let row = 0; row < mask.length; row++) mask[row] = ((flags[row] as number) & bit) !== 0 ? wanted : 1 - wanted;
  return mask;
}

function testMask(test: FieldTest, columns: Columns, context: ColumnsContext): Uint8Array {
  const { field, op, value } = test;
  if (OUTSIDE.has(field)) {
    const mask = outside(test, columns, context);
    return op.startsWith('!') ? inverted(mask) : mask;
  }
  switch (value.type) {
    case 'octets':
      return comparedMask(
        field === 'size' ? columns.size : columns.attached,
        op,
        value.number * (value.unit === null ? 1 : OCTETS_IN[value.unit]),
      );
    case 'count':
      return comparedMask(columns.files, op, value.number);
    case 'age':
    case 'day': {
      const range = instantRange(test, context);
      const mask = rangeMask(field === 'date' ? columns.date : columns.received, range.from, range.to);
      return range.negated ? inverted(mask) : mask;
    }
    case 'text': {
      const mask = textMask(test, fold(value.text), columns);
      return op.startsWith('!') ? inverted(mask) : mask;
    }
  }
}

/** Instants in seconds, `from` inside and `to` outside; or all but those. */
export interface InstantRange {
  from: number;
  to: number;
  negated: boolean;
}

/** The instants that a test of `age`, `date` or `received` means. */
export function instantRange(
  { op, value }: FieldTest,
  { now, timeZone }: { now: Date; timeZone: string },
): InstantRange {
  const within = (from: number, to: number): InstantRange => ({ from, to, negated: op === '!=' });
  if (value.type === 'age') {
    // INTERNALDATE has whole seconds; what is older was received before the instant.
    const instant = instantOfAge(value.number, value.unit, now, timeZone).getTime() / 1000;
    if (op === '>') return within(-Infinity, instant);
    if (op === '>=') return within(-Infinity, nextAbove(instant));
    if (op === '<') return within(nextAbove(instant), Infinity);
    if (op === '<=') return within(instant, Infinity);
    return within(instant, nextAbove(instant));
  }
  if (value.type !== 'day') throw new TypeError(`A value of type ${value.type} is no instant.`);
  const day = instantsOfDay(value.day, timeZone);
  const [start, end] = [day.start.getTime() / 1000, day.end.getTime() / 1000];
  if (op === '<') return within(-Infinity, start);
  if (op === '<=') return within(-Infinity, end);
  if (op === '>') return within(end, Infinity);
  if (op === '>=') return within(start, Infinity);
  return within(start, end);
}

/** The next instant that a message can have above this one: a millisecond later, since stored instants have no finer ones. */
function nextAbove(seconds: number): number {
  return Math.floor(seconds * 1000 + 1) / 1000;
}

function rangeMask(values: Float64Array, from: number, to: number): Uint8Array {
  const mask = new Uint8Array(values.length);
  for (let row = 0; row < mask.length; row++) {
    const value = values[row] as number;
    mask[row] = value >= from && value < to ? 1 : 0;
  }
  return mask;
}

const COMPARISONS: Record<string, (one: number, other: number) => boolean> = {
  '=': (one, other) => one === other,
  '!=': (one, other) => one !== other,
  '<': (one, other) => one < other,
  '<=': (one, other) => one <= other,
  '>': (one, other) => one > other,
  '>=': (one, other) => one >= other,
};

function comparedMask(values: Float64Array | Uint32Array, op: Operator, wanted: number): Uint8Array {
  const holds = COMPARISONS[op] as (one: number, other: number) => boolean;
  const mask = new Uint8Array(values.length);
  for (let row = 0; row < mask.length; row++) mask[row] = holds(values[row] as number, wanted) ? 1 : 0;
  return mask;
}

/** Rows by a text test without its negation. */
function textMask({ field, op }: FieldTest, wanted: string, columns: Columns): Uint8Array {
  const { dictionaries } = columns;
  const contains = op.endsWith('~');
  const holds = (text: string) => (contains ? text.includes(wanted) : text === wanted);
  switch (field) {
    case 'category':
      return equalMask(columns.category, categoryNumber(wanted as Category));
    case 'kind':
      return bitMask(columns.kinds, kindBit(wanted as FileKind));
    case 'folder':
      return codedMask(columns.folder, folded(dictionaries.folder), holds);
    case 'under':
      return codedMask(
        columns.folder,
        folded(dictionaries.folder),
        (path) => path === wanted || path.startsWith(`${wanted}/`),
      );
    case 'list':
      return codedMask(columns.list, folded(dictionaries.list), holds);
    case 'keyword':
      return codedMask(
        columns.keywords,
        folded(dictionaries.keywords),
        (words) => words !== '' && words.split(' ').some(holds),
      );
    case 'domain': {
      const { host, domain } = dictionaries.author;
      return codedMask(columns.author, host, (text, code) => holds(text) || holds(domain[code] as string));
    }
    default: {
      const address = folded(dictionaries.author.address);
      const name = folded(dictionaries.author.name);
      return codedMask(columns.author, address, (text, code) => holds(text) || holds(name[code] as string));
    }
  }
}

function equalMask(values: Uint8Array, wanted: number): Uint8Array {
  const mask = new Uint8Array(values.length);
  for (let row = 0; row < mask.length; row++) mask[row] = values[row] === wanted ? 1 : 0;
  return mask;
}

function bitMask(values: Uint16Array, bit: number): Uint8Array {
  const mask = new Uint8Array(values.length);
  for (let row = 0; row < mask.length; row++) mask[row] = ((values[row] as number) & bit) !== 0 ? 1 : 0;
  return mask;
}

/** Decides once a value of the dictionary, then looks up once a row. */
function codedMask(
  codes: Uint32Array,
  values: readonly string[],
  holds: (text: string, code: number) => boolean,
): Uint8Array {
  const table = Uint8Array.from(values, (text, code) => (holds(text, code) ? 1 : 0));
  const mask = new Uint8Array(codes.length);
  for (let row = 0; row < mask.length; row++) mask[row] = table[codes[row] as number] as number;
  return mask;
}

const foldedLists = new WeakMap<readonly string[], readonly string[]>();

/** A dictionary folded, done once for as long as it lives. */
function folded(values: readonly string[]): readonly string[] {
  let list = foldedLists.get(values);
  if (!list) {
    list = values.map(fold);
    foldedLists.set(values, list);
  }
  return list;
}
