import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseCriteria } from './parse';
import { criteriaToSieve } from './sieve';

const sieve = (text: string) => {
  const parsed = parseCriteria(text);
  assert.ok(parsed.ok, text);
  return criteriaToSieve(parsed.criteria);
};

/** `:over` and `:under` leave out the number itself (RFC 5228 §5.9). */
const RULES: [string, string][] = [
  ['', 'true'],
  ['size > 100', 'size :over 100'],
  ['size >= 100', 'size :over 99'],
  ['size < 100', 'size :under 100'],
  ['size <= 100', 'size :under 101'],
  ['size = 100', 'allof (size :over 99, size :under 101)'],
  ['size != 100', 'not allof (size :over 99, size :under 101)'],
  ['size > 1.5 kB', 'size :over 1500'],
  ['size >= 0.0001 kB', 'size :over 0'],
  ['size = 0.0001 kB', 'false'],
  ['size >= 0', 'true'],
  ['size < 0', 'false'],
  ['size <= 0', 'size :under 1'],
  ['size > 2147483647', 'size :over 2147483647'],
  ['subject ~ lease', 'header :contains "subject" "lease"'],
  ['subject ~ " "', 'header :contains "subject" " "'],
  ['subject = lease', 'header :is "subject" "lease"'],
  ['subject !~ lease', 'not header :contains "subject" "lease"'],
  ['not subject ~ lease', 'not header :contains "subject" "lease"'],
  [
    'size > 1 or subject ~ a and size < 9',
    'anyof (size :over 1, allof (header :contains "subject" "a", size :under 9))',
  ],
];

test('rules for mail to come say the same, at the edges too', () => {
  for (const [text, rule] of RULES) assert.deepEqual(sieve(text), { ok: true, test: rule }, text);
});

test('what no rule can say is refused, with the part and the reason', () => {
  for (const [text, part, reason] of [
    ['age > 3y', 'age > 3y', 'ages'],
    ['size > 1 and date < 2021-07-01', 'date < 2021-07-01', 'day'],
    ['received = 2021-07-01', 'received = 2021-07-01', 'day'],
    ['folder = Sent', 'folder = Sent', 'later'],
    ['under = Sent', 'under = Sent', 'later'],
    ['not flagged', 'flagged', 'later'],
    ['guarded', 'guarded', 'inexpressible'],
    ['category = mailings', 'category = mailings', 'inexpressible'],
    ['text ~ lease', 'text ~ lease', 'inexpressible'],
    ['files > 0', 'files > 0', 'inexpressible'],
    ['size > 2147483648', 'size > 2147483648', 'inexpressible'],
    // A name and its address have a blank between them in the field, and none of the two holds it.
    ['from ~ " "', 'from ~ " "', 'inexpressible'],
    ['from !~ "lane "', 'from !~ "lane "', 'inexpressible'],
    ['to ~ " office"', 'to ~ " office"', 'inexpressible'],
    ['from = "the  office"', 'from = "the  office"', 'inexpressible'],
    ['subject ~ Grüße', 'subject ~ Grüße', 'letters'],
  ] as const)
    assert.deepEqual(sieve(text), { ok: false, part, reason }, text);
});
