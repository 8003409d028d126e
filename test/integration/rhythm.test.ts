import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { test } from 'node:test';
import { dayAfter, instantAt, type Rhythm } from '../../src/core/rhythm/rhythm';
import { ROOT } from '../harness';

/** Far apart, on both sides of the equator, with summer time of an hour and of half an hour, and with none. */
const ZONES = ['Europe/London', 'America/St_Johns', 'Australia/Lord_Howe', 'Pacific/Apia', 'Asia/Kolkata'];
const UNTIL = '2032-01-01';

function daysOf(rhythm: Rhythm): string[] {
  const days: string[] = [];
  for (let day = dayAfter(rhythm, '0001-01-01'); day <= UNTIL; day = dayAfter(rhythm, day)) days.push(day);
  return days;
}

test('the dates of a rhythm, and their instants, are those of dateutil and zoneinfo, for ten years in five zones', () => {
  const rhythms: Rhythm[] = [
    { unit: 'day', every: 1, day: null, from: '2022-01-01', at: '02:30' },
    { unit: 'day', every: 10, day: null, from: '2022-01-30', at: '01:30' },
    { unit: 'week', every: 1, day: 7, from: '2022-01-05', at: '02:15' },
    { unit: 'week', every: 2, day: 1, from: '2022-01-05', at: '00:00' },
    { unit: 'month', every: 1, day: 31, from: '2022-01-31', at: '03:00' },
    { unit: 'month', every: 1, day: 29, from: '2022-01-30', at: '23:59' },
    { unit: 'month', every: 3, day: 1, from: '2022-02-01', at: '02:00' },
    { unit: 'month', every: 12, day: 29, from: '2024-02-01', at: '12:00' },
    // Of all zones, one date of this is on a day that one of them leaps over.
    { unit: 'day', every: 1, day: null, from: '2011-12-01', at: '00:00' },
  ];
  const asked = rhythms.flatMap((rhythm) => ZONES.map((zone) => ({ ...rhythm, zone, until: UNTIL })));
  const told = execFileSync('/usr/bin/python3', [join(ROOT, 'test/integration/rhythm_dates.py')], {
    input: asked.map((one) => JSON.stringify(one)).join('\n'),
    encoding: 'utf8',
    maxBuffer: 2 ** 26,
  })
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as [string, number][]);
  let compared = 0;
  for (const [index, { zone, until: _, ...rhythm }] of asked.entries()) {
    const ours = daysOf(rhythm).map((day) => [day, instantAt(day, rhythm.at, zone).getTime() / 1000]);
    assert.deepEqual(ours, told[index], `${JSON.stringify(rhythm)} in ${zone}`);
    compared += ours.length;
  }
  assert.ok(compared > 50_000, `${compared} dates were compared`);
});

test('the first day after another is found at once, however far away', () => {
  const rhythm: Rhythm = { unit: 'month', every: 1, day: 31, from: '2026-01-31', at: '03:00' };
  assert.equal(dayAfter(rhythm, '2400-02-28'), '2400-02-29');
  assert.equal(dayAfter(rhythm, '2400-02-29'), '2400-03-31');
  assert.equal(dayAfter({ ...rhythm, unit: 'day', day: null, every: 7 }, '9000-01-01') > '9000-01-01', true);
});
