import { CATEGORIES } from '../categories/categories';
import { FILE_KINDS } from '../files/kinds';
import type { OctetUnit } from '../units';

/** The syntax tree of criteria. What the four compilers share; positions stay with the parser. */
export type Criteria =
  | { kind: 'everything' }
  | { kind: 'any'; of: Criteria[] }
  | { kind: 'all'; of: Criteria[] }
  | { kind: 'not'; of: Criteria }
  | { kind: 'flag'; name: FlagTest }
  | { kind: 'test'; field: Field; op: Operator; value: Value };

export type Operator = '=' | '!=' | '~' | '!~' | '<' | '<=' | '>' | '>=';

export type AgeUnit = 'd' | 'w' | 'mo' | 'y';

export type Value =
  | { type: 'octets'; number: number; unit: OctetUnit | null }
  | { type: 'count'; number: number }
  | { type: 'age'; number: number; unit: AgeUnit }
  /** A calendar day, `YYYY-MM-DD`. */
  | { type: 'day'; day: string }
  | { type: 'text'; text: string };

/** What a field is compared with. */
export const FIELDS = {
  size: 'octets',
  age: 'age',
  date: 'day',
  received: 'day',
  from: 'text',
  to: 'text',
  domain: 'text',
  list: 'text',
  subject: 'text',
  text: 'text',
  file: 'text',
  kind: 'text',
  attached: 'octets',
  files: 'count',
  newest: 'count',
  monthly: 'count',
  folder: 'text',
  under: 'text',
  category: 'text',
  keyword: 'text',
} as const satisfies Record<string, Value['type']>;

export type Field = keyof typeof FIELDS;

/**
 * The place of a message among those of its author, the newest first, which is 1; of `monthly` among those that came in the same
 * month. A message without an author is alone.
 */
export const PLACES = ['newest', 'monthly'] as const satisfies readonly Field[];
export type Place = (typeof PLACES)[number];

export function isPlace(field: Field): field is Place {
  return (PLACES as readonly string[]).includes(field);
}

/** Fields that take one of a few words, and these. */
export const WORDS_OF: Partial<Record<Field, readonly string[]>> = { kind: FILE_KINDS, category: CATEGORIES };

/** Tests that stand alone. `guarded` is kept by a guard; the others are flags. */
export const FLAG_TESTS = [
  'seen',
  'unseen',
  'flagged',
  'unflagged',
  'answered',
  'unanswered',
  'draft',
  'guarded',
] as const;
export type FlagTest = (typeof FLAG_TESTS)[number];

export const ORDER_OPERATORS: readonly Operator[] = ['=', '!=', '<', '<=', '>', '>='];
export const TEXT_OPERATORS: readonly Operator[] = ['=', '!=', '~', '!~'];

/** Text fields with fewer operators: a folder with all below it, one of a few words, and what the server searches. */
const FEWER_OPERATORS: Partial<Record<Field, readonly Operator[]>> = {
  under: ['=', '!='],
  kind: ['=', '!='],
  category: ['=', '!='],
  text: ['~', '!~'],
};

/** The operators that a field takes. */
export function operatorsOf(field: Field): readonly Operator[] {
  return FEWER_OPERATORS[field] ?? (FIELDS[field] === 'text' ? TEXT_OPERATORS : ORDER_OPERATORS);
}

/** Calls a visitor for every test of an expression, flags left out. */
export function eachTest(criteria: Criteria, visit: (test: FieldTest) => void): void {
  if (criteria.kind === 'test') visit(criteria);
  else if (criteria.kind === 'not') eachTest(criteria.of, visit);
  else if (criteria.kind === 'any' || criteria.kind === 'all') for (const part of criteria.of) eachTest(part, visit);
}

/** Whether an expression asks for places among the messages of an author. */
export function mentionsPlaces(criteria: Criteria): boolean {
  let found = false;
  eachTest(criteria, ({ field }) => {
    found ||= isPlace(field);
  });
  return found;
}

/** A comparison of a field with a value. */
export type FieldTest = Extract<Criteria, { kind: 'test' }>;

export const AGE_UNITS: readonly AgeUnit[] = ['d', 'w', 'mo', 'y'];
