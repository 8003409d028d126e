import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { course, fullAt, HORIZON_MONTHS } from './full';
import { grownBy, growthOf, growthOfHeld, together } from './growth';

const NOW = new Date('2026-11-20T12:00:00Z');

test('nothing is promised by less than three months; even months tell the day', () => {
  assert.equal(growthOf([]), undefined);
  assert.equal(growthOf([5, 5]), undefined);
  const growth = growthOf(Array(12).fill(100));
  assert.deepEqual(growth, { mean: 100, spread: 0, months: 12 });
  const { earliest, likely, latest } = fullAt(NOW, 1_200, growth as NonNullable<typeof growth>);
  // Twelve months of 30.436875 days.
  assert.equal(likely?.toISOString().slice(0, 10), '2027-11-20');
  assert.deepEqual([earliest, latest], [likely, likely]);
});

test('what is full is full now; what gets nothing more never is', () => {
  const none = growthOf([0, 0, 0]);
  const some = growthOf([1, 2, 3]);
  assert.ok(none && some);
  assert.deepEqual(fullAt(NOW, 0, none), { earliest: NOW, likely: NOW, latest: NOW });
  assert.deepEqual(fullAt(NOW, -5, some), { earliest: NOW, likely: NOW, latest: NOW });
  assert.deepEqual(fullAt(NOW, 1, none), { earliest: null, likely: null, latest: null });
  assert.equal(fullAt(NOW, 2.1 * HORIZON_MONTHS, some).likely, null);
});

test('one month in which a film came does not make the rule', () => {
  const even = [9, 11, 10, 12, 8, 10, 11, 9, 10, 12, 10];
  const [without, withFilm] = [growthOf(even), growthOf([...even, 5_000])];
  assert.ok(without && withFilm && withFilm.mean < without.mean * 1.2 && withFilm.mean > without.mean);
});

test('the range holds what is to come about four times in five, and two in three where few months bring most (a simulation beside it)', () => {
  // Months of several kinds of mailboxes: even, scattered, and with one in five much larger.
  const kinds: ((random: () => number) => number)[] = [
    (random) => 100 + 20 * (random() + random() + random() - 1.5),
    (random) => -100 * Math.log(1 - random()),
    (random) => (random() < 0.2 ? 300 : 60) * (0.5 + random()),
  ];
  let state = 7;
  const random = () => {
    // Park and Miller's minimal standard generator (Communications of the ACM, 1988).
    state = (state * 48_271) % 2_147_483_647;
    return state / 2_147_483_647;
  };
  for (const [kind, month] of kinds.entries())
    for (const ahead of [3, 12, 24]) {
      let within = 0;
      const trials = 2_000;
      for (let trial = 0; trial < trials; trial++) {
        const growth = growthOf(Array.from({ length: 12 }, () => month(random)));
        assert.ok(growth);
        const { low, high } = grownBy(growth, ahead);
        const came = Array.from({ length: ahead }, () => month(random)).reduce((sum, one) => sum + one, 0);
        if (came >= low && came <= high) within++;
      }
      assert.ok(within / trials > (kind === 2 ? 0.6 : 0.72), `kind ${kind}, ${ahead} months ahead: ${within / trials}`);
    }
});

test('what is held grows by its differences; months that nobody looked at get equal parts', () => {
  assert.equal(growthOfHeld([]), undefined);
  assert.equal(growthOfHeld([100, 110, 120]), undefined, 'two differences are too few');
  assert.deepEqual(growthOfHeld([100, 110, 120, 130]), { mean: 10, spread: 0, months: 3 });
  assert.deepEqual(growthOfHeld([null, 100, null, null, 130, null]), { mean: 10, spread: 0, months: 3 });
  assert.equal(growthOfHeld([400, 300, 200, 100])?.mean, 0, 'what shrinks is not promised to go on shrinking');
  const held = growthOfHeld([0, 10, 40, 60]) as NonNullable<ReturnType<typeof growthOf>>;
  assert.deepEqual([held.mean, held.spread], [20, 10]);
  const mail = { mean: 100, spread: 24, months: 12 };
  assert.deepEqual(together(mail, held), { mean: 120, spread: 26, months: 3 });
  assert.equal(together(mail, undefined), mail);
});

test('a date is where the course crosses the limit, and earlier is never later', () => {
  const months = fc.array(fc.nat(1_000_000), { minLength: 3, maxLength: 14 });
  fc.assert(
    fc.property(months, fc.nat(50_000_000), (all, room) => {
      const growth = growthOf(all);
      assert.ok(growth);
      const { earliest, likely, latest } = fullAt(NOW, room, growth);
      const order = [earliest, likely, latest].map((date) => date?.getTime() ?? Number.POSITIVE_INFINITY);
      assert.deepEqual(
        order,
        [...order].sort((a, b) => a - b),
      );
      const points = course(1_000, growth, HORIZON_MONTHS);
      for (const [date, part] of [
        [earliest, 'high'],
        [likely, 'likely'],
        [latest, 'low'],
      ] as const) {
        const crossing = points.findIndex((point) => point[part] - 1_000 >= room);
        if (!date) {
          assert.equal(crossing, -1, part);
          continue;
        }
        const month = (date.getTime() - NOW.getTime()) / (30.436875 * 86_400_000);
        assert.ok(crossing >= month - 0.01 && crossing < month + 1.01, `${part}: ${crossing} and ${month}`);
      }
    }),
  );
});
