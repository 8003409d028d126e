import { fold } from '../text';
import { OCTETS_IN } from '../units';
import { instantOfAge } from './instants';
import type { Criteria, FieldTest, FlagTest, Operator } from './tree';

/** A key of SEARCH (RFC 9051 §6.4.4): an atom, a string, or several in parentheses. */
export type SearchKey = string | { readonly string: string } | readonly SearchKey[];

/** A search that finds at least what criteria mean. */
export interface ImapSearch {
  /** All must hold. Never empty. */
  keys: readonly SearchKey[];
  /** Whether it finds exactly that; else what it finds is to be filtered again. */
  exact: boolean;
}

/** A search goes over one folder, by the server's own clock and time zone. */
export interface ImapContext {
  now: Date;
  timeZone: string;
  /** Path of the folder in which is searched. */
  folder: string;
  /** WITHIN (RFC 5032). */
  within: boolean;
}

const ALL: ImapSearch = { keys: ['ALL'], exact: true };
const NONE: ImapSearch = { keys: ['NOT', 'ALL'], exact: true };
/** The nearest superset where the server has no key: everything. */
const WIDE: ImapSearch = { keys: ['ALL'], exact: false };

/**
 * Compiles criteria to a search. Exact are sizes, flags, keywords as a whole, folders, `text`, and ages where the server
 * has WITHIN. Days are widened, since the server counts them in a time zone of its own. Texts of headers are widened to
 * what matches under any of the comparisons that servers use.
 */
export function criteriaToImap(criteria: Criteria, context: ImapContext): ImapSearch {
  return compiled(criteria, false, context);
}

/**
 * Compiles criteria or their complement. NOT is pushed down to the tests, and turned into the opposite comparison
 * there: Dovecot 2.3 merges dates under NOT the wrong way round, and found none by
 * `NOT (OLDER 86400 OLDER 31536000)` of 188 messages of the last year. Besides, a test that is only nearly what the
 * server can say has a complement of its own, where that of a superset would be too little.
 */
function compiled(criteria: Criteria, complement: boolean, context: ImapContext): ImapSearch {
  switch (criteria.kind) {
    case 'everything':
      return complement ? NONE : ALL;
    case 'all':
    case 'any': {
      const parts = criteria.of.map((part) => compiled(part, complement, context));
      if ((criteria.kind === 'all') !== complement)
        return { keys: parts.flatMap(({ keys }) => keys), exact: parts.every(({ exact }) => exact) };
      return parts.reduceRight((rest, part) => ({
        keys: ['OR', unmerged(part.keys), unmerged(rest.keys)],
        exact: part.exact && rest.exact,
      }));
    }
    case 'not':
      return compiled(criteria.of, !complement, context);
    case 'flag':
      return flag(criteria.name, complement);
    case 'test':
      return test(complement ? { ...criteria, op: OPPOSITE[criteria.op] } : criteria, context);
  }
}

const OPPOSITE: Record<Operator, Operator> = {
  '=': '!=',
  '!=': '=',
  '~': '!~',
  '!~': '~',
  '<': '>=',
  '<=': '>',
  '>': '<=',
  '>=': '<',
};

/**
 * Adds a key that always holds. Dovecot 2.3 merges flags under OR, and then misses messages: of 188 it found 181
 * by `OR UNFLAGGED UNSEEN`, and all of them by `UNFLAGGED` alone. Another key between keeps it from that.
 */
function unmerged(keys: readonly SearchKey[]): readonly SearchKey[] {
  return ['UID', '1:*', ...keys];
}

function flag(name: FlagTest, complement: boolean): ImapSearch {
  if (name === 'guarded') return WIDE;
  const opposite = name.startsWith('un') ? name.slice(2) : `un${name}`;
  return { keys: [(complement ? opposite : name).toUpperCase()], exact: true };
}

function test({ field, op, value }: FieldTest, context: ImapContext): ImapSearch {
  switch (value.type) {
    case 'octets':
      return field === 'size' ? size(op, value.number * (value.unit ? OCTETS_IN[value.unit] : 1)) : WIDE;
    case 'count':
      return WIDE;
    case 'age': {
      const instant = instantOfAge(value.number, value.unit, context.now, context.timeZone);
      return context.within ? age(op, instant, context.now) : WIDE;
    }
    case 'day':
      return day(field === 'date', op, value.day);
    case 'text': {
      const negated = op.startsWith('!');
      const found = text(field, op.endsWith('~'), value.text, context);
      if (!negated) return found;
      return found.exact ? { keys: ['NOT', found.keys], exact: true } : WIDE;
    }
  }
}

/** Largest number that every server takes (RFC 3501 §9, number). */
const MAX_NUMBER = 2 ** 32 - 1;

/** LARGER and SMALLER leave out the number itself, and take whole ones. */
function size(op: Operator, octets: number): ImapSearch {
  if (octets > MAX_NUMBER) return WIDE;
  const above = (least: number): ImapSearch => (least < 0 ? ALL : { keys: ['LARGER', `${least}`], exact: true });
  const below = (most: number): ImapSearch => (most <= 0 ? NONE : { keys: ['SMALLER', `${most}`], exact: true });
  switch (op) {
    case '>':
      return above(Math.floor(octets));
    case '>=':
      return above(Math.ceil(octets) - 1);
    case '<':
      return below(Math.ceil(octets));
    case '<=':
      return below(Math.floor(octets) + 1);
  }
  const equal = Number.isInteger(octets)
    ? { keys: [...above(octets - 1).keys, ...below(octets + 1).keys], exact: true }
    : NONE;
  if (op === '=') return equal;
  if (equal === NONE) return ALL;
  const others = [unmerged(below(octets).keys), unmerged(above(octets).keys)];
  return { keys: ['OR', ...others], exact: true };
}

/**
 * OLDER takes what was received that many seconds ago or earlier, YOUNGER what was received later or then (RFC 5032 §3);
 * so the edge is moved by a second where the criteria leave it out.
 */
function age(op: Operator, instant: Date, now: Date): ImapSearch {
  const seconds = Math.floor(now.getTime() / 1000) - Math.ceil(instant.getTime() / 1000);
  const whole = Number.isInteger(instant.getTime() / 1000);
  // An interval is a number above zero in the grammar.
  const older = (interval: number): ImapSearch =>
    interval < 1 ? WIDE : { keys: ['OLDER', `${interval}`], exact: interval <= MAX_NUMBER };
  const younger = (interval: number): ImapSearch =>
    interval < 1 ? WIDE : { keys: ['YOUNGER', `${interval}`], exact: interval <= MAX_NUMBER };
  switch (op) {
    case '>':
      return older(seconds + 1);
    case '>=':
      return older(whole ? seconds : seconds + 1);
    case '<':
      return younger(whole ? seconds - 1 : seconds);
    case '<=':
      return younger(seconds);
  }
  return WIDE;
}

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];

/** A day moved by some, as SEARCH writes it (date, RFC 9051 §9). */
function written(day: string, by: number): string {
  const date = new Date(Date.parse(`${day}T00:00:00Z`) + by * 86_400_000);
  return `${date.getUTCDate()}-${MONTHS[date.getUTCMonth()]}-${`${date.getUTCFullYear()}`.padStart(4, '0')}`;
}

/** Days between the user's reading of an instant and any server's: their zones may lie 26 hours apart. */
const APART = 2;

function day(ofDateField: boolean, op: Operator, value: string): ImapSearch {
  if (op === '!=' || value < '1900' || value > '9990') return WIDE;
  const bounds: SearchKey[] = [];
  const key = (name: string) => {
    const before = op === '<' || op === '<=' || op === '=' ? [`${name}BEFORE`, written(value, APART + 1)] : [];
    const since = op === '>' || op === '>=' || op === '=' ? [`${name}SINCE`, written(value, -APART)] : [];
    return [...before, ...since];
  };
  // Where the Date field can't be read the day of INTERNALDATE counts, and servers read different fields.
  if (ofDateField) bounds.push('OR', key('SENT'), key(''));
  else bounds.push(...key(''));
  return { keys: bounds, exact: false };
}

function text(field: FieldTest['field'], contains: boolean, value: string, { folder }: ImapContext): ImapSearch {
  const wanted = fold(value);
  const path = fold(folder);
  const header = (...names: SearchKey[][]): ImapSearch => {
    const piece = safePiece(wanted);
    if (piece === '') return WIDE;
    return {
      keys: names
        .map((name): SearchKey[] => [...name, { string: piece }])
        .reduceRight((rest, name) => ['OR', name, rest]),
      exact: false,
    };
  };
  switch (field) {
    case 'folder':
      return (contains ? path.includes(wanted) : path === wanted) ? ALL : NONE;
    case 'under':
      return path === wanted || path.startsWith(`${wanted}/`) ? ALL : NONE;
    case 'keyword':
      // An atom (RFC 9051 §9); what is none is no keyword.
      if (contains) return WIDE;
      return /^[!#$&'+,\-./0-9:;<=>?@A-Z[^_`a-z|}~]+$/.test(value) ? { keys: ['KEYWORD', value], exact: true } : NONE;
    case 'text':
      return { keys: ['TEXT', { string: value }], exact: true };
    case 'from':
    case 'domain':
      return header(['FROM']);
    case 'to':
      return header(['TO'], ['CC']);
    case 'subject':
      return header(['SUBJECT']);
    case 'list':
      return header(['HEADER', 'List-Id']);
    default:
      return WIDE;
  }
}

/**
 * The longest piece of a text that every server finds wherever the criteria do: letters and digits of ASCII, in a row.
 * Servers compare after i;unicode-casemap (RFC 5051) or less, we after full case folding, and they part where a letter
 * folds into several: `ß` holds `ss` for us alone, so no piece has an s. Blanks and marks are left out, since headers
 * write them in more ways than one.
 */
function safePiece(folded: string): string {
  const pieces = folded.match(/[a-rt-z0-9]+/g) ?? [];
  return pieces.reduce((longest, piece) => (piece.length > longest.length ? piece : longest), '');
}
