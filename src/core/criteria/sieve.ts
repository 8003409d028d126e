import { domainOf } from '../mailbox/email-address';
import { OCTETS_IN } from '../units';
import { printCriteria } from './print';
import type { Criteria, FieldTest } from './tree';

/** A test of Sieve (RFC 5228), or why there is none. */
export type SieveTest =
  | { ok: true; test: string }
  /** `part` is the printed part of the criteria that has no rule. */
  | { ok: false; part: string; reason: SieveRefusal };

/** Why a part of criteria can't be a rule for mail to come. */
export type SieveRefusal =
  /** It changes while mail ages or comes in; a rule sees a message on its arrival only. */
  | 'ages'
  /** A day in the past says nothing of mail to come. */
  | 'day'
  /** A message that arrives has no flag, keyword or folder yet. */
  | 'later'
  /** Sieve can't ask it, or not so that it would mean the same. */
  | 'inexpressible'
  /** Sieve compares letters beyond ASCII octet by octet. */
  | 'letters';

const REFUSED: Partial<Record<FieldTest['field'], SieveRefusal>> = {
  age: 'ages',
  newest: 'ages',
  monthly: 'ages',
  date: 'day',
  received: 'day',
  folder: 'later',
  under: 'later',
  keyword: 'later',
  category: 'inexpressible',
  text: 'inexpressible',
  file: 'inexpressible',
  kind: 'inexpressible',
  files: 'inexpressible',
  attached: 'inexpressible',
};

/**
 * Compiles criteria to a test that decides the same of a message on its arrival. Exact are `size`, `subject`, `list`,
 * `domain`, `from` and `to`, with texts of ASCII; of several authors Sieve looks at all, we at the first.
 */
export function criteriaToSieve(criteria: Criteria): SieveTest {
  try {
    return { ok: true, test: compile(criteria) };
  } catch (error) {
    if (error instanceof Refusal) return { ok: false, part: error.part, reason: error.reason };
    throw error;
  }
}

class Refusal extends Error {
  readonly part: string;
  constructor(
    part: Criteria,
    readonly reason: SieveRefusal,
  ) {
    super(reason);
    this.part = printCriteria(part);
  }
}

function compile(criteria: Criteria): string {
  switch (criteria.kind) {
    case 'everything':
      return 'true';
    case 'any':
      return `anyof (${criteria.of.map(compile).join(', ')})`;
    case 'all':
      return `allof (${criteria.of.map(compile).join(', ')})`;
    case 'not':
      return `not ${compile(criteria.of)}`;
    case 'flag':
      throw new Refusal(criteria, criteria.name === 'guarded' ? 'inexpressible' : 'later');
    case 'test': {
      const refused = REFUSED[criteria.field];
      if (refused) throw new Refusal(criteria, refused);
      return criteria.value.type === 'octets' ? size(criteria) : text(criteria);
    }
  }
}

/** Numbers that every implementation takes (RFC 5228 §2.4.1). */
const MAX_NUMBER = 2 ** 31 - 1;

/** `:over` and `:under` leave out the number itself (RFC 5228 §5.9). */
function size(test: FieldTest): string {
  if (test.value.type !== 'octets') throw new TypeError('A size is in octets.');
  const octets = test.value.number * (test.value.unit === null ? 1 : OCTETS_IN[test.value.unit]);
  if (octets > MAX_NUMBER) throw new Refusal(test, 'inexpressible');
  const over = (number: number) => (number < 0 ? 'true' : `size :over ${number}`);
  const under = (number: number) => (number <= 0 ? 'false' : `size :under ${number}`);
  switch (test.op) {
    case '>':
      return over(Math.floor(octets));
    case '>=':
      return over(Math.ceil(octets) - 1);
    case '<':
      return under(Math.ceil(octets));
    case '<=':
      return under(Math.floor(octets) + 1);
  }
  const equal = Number.isInteger(octets) ? `allof (${over(octets - 1)}, ${under(octets + 1)})` : 'false';
  return test.op === '=' ? equal : `not ${equal}`;
}

function text(test: FieldTest): string {
  const value = (test.value as { text: string }).text;
  if (!/^[\x20-\x7e]+$/.test(value)) throw new Refusal(test, 'letters');
  const positive = contained(test, value);
  return test.op.startsWith('!') ? `not ${positive}` : positive;
}

function contained(test: FieldTest, value: string): string {
  const contains = test.op.endsWith('~');
  switch (test.field) {
    case 'subject':
      return `header ${contains ? ':contains' : ':is'} "subject" ${quoted(value)}`;
    case 'domain': {
      if (contains) return `address :domain :contains "from" ${quoted(value)}`;
      // A registrable domain means all below it; a subdomain in full means itself alone.
      const below = domainOf(`@${value.toLowerCase()}`) === value.toLowerCase() && value.includes('.');
      const itself = `address :domain :is "from" ${quoted(value)}`;
      return below ? `anyof (${itself}, address :domain :matches "from" ${quoted(`*.${pattern(value)}`)})` : itself;
    }
    case 'list': {
      const bare = `not header :contains "list-id" "<"`;
      if (contains)
        return `anyof (header :matches "list-id" ${quoted(`*<*${pattern(value)}*>*`)}, allof (${bare}, header :contains "list-id" ${quoted(value)}))`;
      return `anyof (header :matches "list-id" ${quoted(`*<${pattern(value)}>`)}, allof (${bare}, header :is "list-id" ${quoted(value)}))`;
    }
    default: {
      // Marks and blanks that part names from addresses in the field would be found where no name or address holds them.
      if (/["\\<>(),:;]|^ | $| {2}/.test(value)) throw new Refusal(test, 'inexpressible');
      const fields = test.field === 'from' ? '"from"' : '["to", "cc"]';
      if (contains)
        return `anyof (address :all :contains ${fields} ${quoted(value)}, header :contains ${fields} ${quoted(value)})`;
      const address = `address :all :is ${fields} ${quoted(value)}`;
      if (test.field === 'to') {
        if (!value.includes('@')) throw new Refusal(test, 'inexpressible');
        return address;
      }
      const named = pattern(value);
      return `anyof (${address}, header :matches "from" [${quoted(`${named} <*>`)}, ${quoted(`"${named}" <*>`)}])`;
    }
  }
}

/** A text as a script has it (quoted-string, RFC 5228 §2.4.2). */
export function quoted(text: string): string {
  return `"${text.replace(/["\\]/g, '\\$&')}"`;
}

/** A text that stands for itself in `:matches`. */
function pattern(text: string): string {
  return text.replace(/[*?\\]/g, '\\$&');
}
