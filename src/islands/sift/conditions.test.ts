import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { anyCriteria } from '../../../test/criteria-samples';
import { monthsOf, sizeAt } from '../../core/columns/axes';
import { parseCriteria } from '../../core/criteria/parse';
import { printCriteria } from '../../core/criteria/print';
import { chosenValues, conditionsOf, hasFlag, toggledFlag, toggledValue, whereOf } from '../../ui/criteria/conditions';
import { brushOf, conditionsOfBrush } from './brush';

test('criteria are the conditions that the chips show, whatever they say', () => {
  fc.assert(
    fc.property(anyCriteria, (criteria) => {
      const where = printCriteria(criteria);
      const again = parseCriteria(whereOf(conditionsOf(where)));
      assert.deepEqual(again, { ok: true, criteria });
    }),
  );
});

test('a control chooses and takes back; what else was said stays', () => {
  const one = toggledValue('size > 5 MiB and folder = INBOX', 'category', 'category', 'mailings');
  assert.equal(one, 'size > 5 MiB and folder = INBOX and category = mailings');
  const two = toggledValue(one, 'category', 'category', 'lists');
  assert.equal(two, 'size > 5 MiB and folder = INBOX and (category = mailings or category = lists)');
  assert.deepEqual(chosenValues(two, 'category'), ['mailings', 'lists']);
  assert.equal(toggledValue(two, 'category', 'category', 'mailings'), one.replace('mailings', 'lists'));
  assert.equal(toggledFlag('unseen and size > 1 B', 'seen'), 'size > 1 B and seen');
  assert.equal(hasFlag('not seen', 'seen'), false);
});

test('a brush and its criteria say the same, to the day and to two digits of a size', () => {
  const months = monthsOf(
    Float64Array.of(Date.UTC(2017, 3, 9) / 1000, Date.UTC(2026, 10, 20) / 1000),
    new Date('2026-11-25T00:00:00Z'),
    'Asia/Tokyo',
  );
  const context = { now: new Date('2026-11-25T00:00:00Z'), timeZone: 'Asia/Tokyo', units: 'binary' as const, months };
  const open = { left: 0, right: months.length - 1, bottom: 0, top: 80 };
  assert.deepEqual(conditionsOfBrush(open, open, context), []);
  const brush = { ...open, right: 30.4, bottom: 57.4 };
  const printed = whereOf(conditionsOfBrush(brush, open, context));
  assert.equal(printed, 'size >= 5.1 MiB and received < 2019-10-13');
  const back = brushOf(printed, open, context);
  assert.ok(back && Math.abs(back.bottom - 57.4) < 0.2 && Math.abs(back.right - 30.4) < 0.1);
  assert.deepEqual([back.left, back.top], [open.left, open.top]);
  assert.ok(Math.abs(sizeAt(57.4) / 2 ** 20 - 5.1) < 0.1);
  assert.equal(brushOf('size > 5 MiB or unseen', open, context), undefined);
});
