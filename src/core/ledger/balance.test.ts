import assert from 'node:assert/strict';
import { test } from 'node:test';
import { balance, type QuotaSnapshot } from './balance';

const mark = (used: number | null, counted: number): QuotaSnapshot => ({
  used,
  counted,
  at: '2026-11-24T12:00:00.000Z',
});

test('figures that agree within the server’s unit need no reason, whatever of them is not mail', () => {
  const found = balance({
    won: 5_000_000,
    before: mark(9_000_448, 8_000_000),
    after: mark(4_000_256, 3_000_000),
    settled: null,
  });
  assert.deepEqual([found.expected, found.reported, found.reasons], [5_000_000, 5_000_192, []]);
  assert.equal(found.notMail, 1_000_448);
});

test('each difference has its reason: lag, copies counted once, other programs, new mail', () => {
  const of = (won: number, before: QuotaSnapshot, after: QuotaSnapshot, settled: QuotaSnapshot | null = null) =>
    balance({ won, before, after, settled }).reasons;
  assert.deepEqual(of(1e6, mark(5e6, 4e6), mark(5e6, 3e6)), [{ reason: 'lag', bytes: 1e6 }]);
  assert.deepEqual(of(1e6, mark(3e6, 4e6), mark(2.5e6, 3e6)), [{ reason: 'once', bytes: 5e5 }]);
  assert.deepEqual(of(1e6, mark(3e6, 4e6), mark(2.5e6, 3e6), mark(2e6, 3e6)), [{ reason: 'lag', bytes: 5e5 }]);
  assert.deepEqual(of(1e6, mark(5e6, 4e6), mark(3.8e6, 2.8e6)), [{ reason: 'removed-by-others', bytes: 2e5 }]);
  assert.deepEqual(of(1e6, mark(5e6, 4e6), mark(4.3e6, 3.3e6)), [{ reason: 'new-mail', bytes: 3e5 }]);
  assert.equal(balance({ won: 1, before: mark(null, 4e6), after: mark(null, 3e6), settled: null }).reported, null);
});
