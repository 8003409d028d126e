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

/** What a field is compared with, which decides its operators. */
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
  file: 'text',
  attached: 'octets',
  files: 'count',
  folder: 'text',
  under: 'text',
} as const satisfies Record<string, Value['type']>;

export type Field = keyof typeof FIELDS;

export const FLAG_TESTS = ['seen', 'unseen', 'flagged', 'unflagged', 'answered', 'unanswered', 'draft'] as const;
export type FlagTest = (typeof FLAG_TESTS)[number];

export const ORDER_OPERATORS: readonly Operator[] = ['=', '!=', '<', '<=', '>', '>='];
export const TEXT_OPERATORS: readonly Operator[] = ['=', '!=', '~', '!~'];

export const AGE_UNITS: readonly AgeUnit[] = ['d', 'w', 'mo', 'y'];
