import fc from 'fast-check';
import {
  AGE_UNITS,
  type Criteria,
  FIELDS,
  type Field,
  FLAG_TESTS,
  operatorsOf,
  type Value,
  WORDS_OF,
} from '../src/core/criteria/tree';

/** Records with an ordinary prototype, as the parser builds them. */
const plain = <T>(shape: { [K in keyof T]: fc.Arbitrary<T[K]> }): fc.Arbitrary<T> =>
  fc.record(shape, { noNullPrototype: true }) as unknown as fc.Arbitrary<T>;

/** Random criteria for properties, as a parser would build them: no group of one, no empty text. */

const octets = plain({
  type: fc.constant('octets' as const),
  number: fc.nat(20_000),
  unit: fc.constantFrom(null, 'B', 'kB', 'MB', 'KiB', 'MiB' as const),
});
const counts = plain({ type: fc.constant('count' as const), number: fc.nat(20) });
const ages = plain({ type: fc.constant('age' as const), number: fc.nat(40), unit: fc.constantFrom(...AGE_UNITS) });
const days = fc
  .date({ min: new Date('2017-01-01T00:00:00Z'), max: new Date('2027-01-01T00:00:00Z'), noInvalidDate: true })
  .map((date) => ({ type: 'day' as const, day: date.toISOString().slice(0, 10) }));

/** Words that the demo's mail holds, and texts that are awkward to print. */
const WORDS = [
  'marsh',
  'Fenwater Seeds',
  'offers@fenwater.example',
  'Re:',
  'INBOX',
  'Sent',
  'Suppliers',
  'Märkte & Feste',
  'jördis',
  'ÅNGEL',
  '"',
  '\\',
  '.pdf',
  'saltmarshlane.example',
  'and',
  'catalogue',
  '%',
  '_',
  'ß',
  '千',
  'straSSe',
];
const texts = fc
  .oneof(fc.constantFrom(...WORDS), fc.string({ minLength: 1, maxLength: 4, unit: 'grapheme' }))
  .map((text) => ({ type: 'text' as const, text }));

const VALUES: Record<Value['type'], fc.Arbitrary<Value>> = { octets, count: counts, age: ages, day: days, text: texts };

/** Texts that the mail server is asked for in tests, so that they have been asked before. */
export const SERVER_TEXTS = ['marsh', 'Jördis', 'swarm'];

function valueFor(field: Field): fc.Arbitrary<Value> {
  const named = field === 'text' ? SERVER_TEXTS : field === 'keyword' ? KEYWORDS : WORDS_OF[field];
  if (named) return fc.constantFrom(...named).map((text) => ({ type: 'text' as const, text }));
  return VALUES[FIELDS[field]];
}

const KEYWORDS = ['$Forwarded', '$label1', 'Paid', 'paid', 'orward', 'no such', '$MDNSent'];

/** Random tests of these fields. */
export const testsOf = (fields: readonly Field[]) =>
  fc.constantFrom(...fields).chain((field) =>
    plain({
      kind: fc.constant('test' as const),
      field: fc.constant(field),
      op: fc.constantFrom(...operatorsOf(field)),
      value: valueFor(field),
    }),
  );
const flags = plain({ kind: fc.constant('flag' as const), name: fc.constantFrom(...FLAG_TESTS) });

/** Random expressions over these fields, with flags or without. */
export const criteriaOver = (fields: readonly Field[], withFlags = true): fc.Arbitrary<Criteria> =>
  fc.letrec<{ criteria: Criteria }>((tie) => ({
    criteria: fc.oneof(
      { maxDepth: 3, depthIdentifier: 'criteria' },
      testsOf(fields),
      withFlags ? flags : testsOf(fields),
      plain({ kind: fc.constant('not' as const), of: tie('criteria') }),
      plain({
        kind: fc.constantFrom('any' as const, 'all' as const),
        of: fc.array(tie('criteria'), { minLength: 2, maxLength: 3 }),
      }),
    ),
  })).criteria;

export const anyCriteria = criteriaOver(Object.keys(FIELDS) as Field[]);
