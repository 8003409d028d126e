import { OCTETS_IN, octetUnit } from '../units';
import {
  AGE_UNITS,
  type AgeUnit,
  type Criteria,
  FIELDS,
  type Field,
  FLAG_TESTS,
  type FlagTest,
  type Operator,
  operatorsOf,
  type Value,
  WORDS_OF,
} from './tree';

/** Where an expression is wrong and what would have been right there. */
export interface CriteriaError {
  /** Characters before the wrong place, from 0. */
  at: number;
  expected: string;
}

export type Parsed = { ok: true; criteria: Criteria } | { ok: false; error: CriteriaError };

/** Nesting that is accepted; more is a mistake or an attack on the stack. */
const MAX_DEPTH = 64;

const WORD = /[\p{L}\p{M}\p{N}._@/+-]+/uy;
/** At most six decimals: more would print in another notation than the grammar has. */
const NUMBER = /\d+(?:\.\d{1,6})?/y;
const OPERATOR = /!=|!~|<=|>=|[=~<>]/y;
const SPACE = /\s*/y;
const UNIT = /[A-Za-z]+/y;

/**
 * Parses an expression of criteria; the empty one is everything. The grammar is in docs/criteria.md.
 *
 * @param without fields and flags that can't stand where this is read.
 */
export function parseCriteria(text: string, without: readonly (Field | FlagTest)[] = []): Parsed {
  try {
    return { ok: true, criteria: new Parser(text, without).whole() };
  } catch (error) {
    if (error instanceof Misread) return { ok: false, error: { at: error.at, expected: error.expected } };
    throw error;
  }
}

class Misread extends Error {
  constructor(
    readonly at: number,
    readonly expected: string,
  ) {
    super(`expected ${expected} at ${at}`);
  }
}

/** Recursive descent, one method a rule of the grammar. */
class Parser {
  private at = 0;
  private depth = 0;

  constructor(
    private readonly text: string,
    private readonly without: readonly string[],
  ) {
    this.space();
  }

  whole(): Criteria {
    if (this.at === this.text.length) return { kind: 'everything' };
    const criteria = this.any();
    if (this.at < this.text.length) throw new Misread(this.at, 'and, or, or the end');
    return criteria;
  }

  private any(): Criteria {
    const of = [this.all()];
    while (this.keyword('or')) of.push(this.all());
    return of.length === 1 ? (of[0] as Criteria) : { kind: 'any', of };
  }

  private all(): Criteria {
    const of = [this.not()];
    while (this.keyword('and')) of.push(this.not());
    return of.length === 1 ? (of[0] as Criteria) : { kind: 'all', of };
  }

  private not(): Criteria {
    if (this.keyword('not')) return { kind: 'not', of: this.primary() };
    return this.primary();
  }

  private primary(): Criteria {
    if (this.text[this.at] !== '(') return this.test();
    if (++this.depth > MAX_DEPTH) throw new Misread(this.at, `at most ${MAX_DEPTH} levels of parentheses`);
    this.at++;
    this.space();
    const inside = this.any();
    if (this.text[this.at] !== ')') throw new Misread(this.at, 'and, or, or )');
    this.at++;
    this.depth--;
    this.space();
    return inside;
  }

  private test(): Criteria {
    const start = this.at;
    const word = this.match(WORD)?.toLowerCase() ?? '';
    if (this.without.includes(word)) throw new Misread(start, `a test other than ${word}, which can’t stand here`);
    if ((FLAG_TESTS as readonly string[]).includes(word)) {
      this.space();
      return { kind: 'flag', name: word as FlagTest };
    }
    if (!Object.hasOwn(FIELDS, word))
      throw new Misread(start, `one of ${Object.keys(FIELDS).join(', ')}, ${FLAG_TESTS.join(', ')}`);
    const field = word as Field;
    this.space();
    const op = this.operator(field);
    return { kind: 'test', field, op, value: this.value(field) };
  }

  private operator(field: Field): Operator {
    const start = this.at;
    const op = this.match(OPERATOR) as Operator | undefined;
    const fitting = operatorsOf(field);
    if (!op || !fitting.includes(op)) throw new Misread(start, `one of ${fitting.join(' ')} after ${field}`);
    this.space();
    return op;
  }

  private value(field: Field): Value {
    switch (FIELDS[field]) {
      case 'octets':
        return this.octets();
      case 'count':
        return { type: 'count', number: this.number('a number') };
      case 'age':
        return this.age();
      case 'day':
        return this.day();
      case 'text':
        return WORDS_OF[field] ? this.oneOf(WORDS_OF[field]) : this.words();
    }
  }

  private oneOf(words: readonly string[]): Value {
    const start = this.at;
    const { text } = this.words() as Extract<Value, { type: 'text' }>;
    const word = text.toLowerCase();
    if (!words.includes(word)) throw new Misread(start, `one of ${words.join(', ')}`);
    return { type: 'text', text: word };
  }

  private octets(): Value {
    const number = this.number('a size such as 10 MB');
    const start = this.at;
    const name = this.match(UNIT);
    if (name === undefined || /^(and|or)$/i.test(name)) {
      this.at = start;
      return { type: 'octets', number, unit: null };
    }
    const unit = octetUnit(name);
    if (!unit) throw new Misread(start, `a unit, one of ${Object.keys(OCTETS_IN).join(', ')}`);
    this.space();
    return { type: 'octets', number, unit };
  }

  private age(): Value {
    const start = this.at;
    const number = this.number('an age such as 3y');
    if (!Number.isInteger(number) || number > 10_000) throw new Misread(start, 'a whole number up to 10000');
    const at = this.at;
    const unit = this.match(UNIT)?.toLowerCase() as AgeUnit | undefined;
    if (!unit || !AGE_UNITS.includes(unit)) throw new Misread(at, 'd, w, mo or y');
    this.space();
    return { type: 'age', number, unit };
  }

  private day(): Value {
    const start = this.at;
    const day = this.match(WORD) ?? '';
    if (!isDay(day)) throw new Misread(start, 'a day that exists, such as 2021-07-01');
    this.space();
    return { type: 'day', day };
  }

  private words(): Value {
    const start = this.at;
    if (this.text[this.at] !== '"') {
      const text = this.match(WORD);
      if (text === undefined) throw new Misread(start, 'a word, or a text in quotes');
      this.space();
      return { type: 'text', text };
    }
    let text = '';
    for (this.at++; this.text[this.at] !== '"'; this.at++) {
      if (this.text[this.at] === '\\') {
        this.at++;
        if (!/["\\]/.test(this.text[this.at] ?? '')) throw new Misread(this.at, '" or \\ after a \\');
      }
      if (this.at >= this.text.length) throw new Misread(this.text.length, 'the closing "');
      text += this.text[this.at];
    }
    if (text === '') throw new Misread(start, 'a text that is not empty');
    this.at++;
    this.space();
    return { type: 'text', text };
  }

  private number(expected: string): number {
    const start = this.at;
    const digits = this.match(NUMBER);
    const number = Number(digits);
    if (digits === undefined || number > Number.MAX_SAFE_INTEGER) throw new Misread(start, expected);
    this.space();
    return number;
  }

  private keyword(word: string): boolean {
    const start = this.at;
    if (this.match(WORD)?.toLowerCase() === word) {
      this.space();
      return true;
    }
    this.at = start;
    return false;
  }

  private match(pattern: RegExp): string | undefined {
    pattern.lastIndex = this.at;
    const found = pattern.exec(this.text)?.[0];
    if (found !== undefined) this.at += found.length;
    return found;
  }

  private space(): void {
    this.match(SPACE);
  }
}

/** Whether a text is a day of the Gregorian calendar, `YYYY-MM-DD`, from the year 1 on. */
export function isDay(text: string): boolean {
  if (!/^\d{4}-\d{2}-\d{2}$/.test(text) || text.startsWith('0000')) return false;
  const date = new Date(`${text}T00:00:00Z`);
  return !Number.isNaN(date.getTime()) && date.toISOString().startsWith(text);
}
