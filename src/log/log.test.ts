import assert from 'node:assert/strict';
import { test } from 'node:test';
import { LimitedLog } from './limited';
import type { Log } from './log';

test('a log of what others cause holds so many lines a minute, and then says how many were left out', () => {
  const lines: string[] = [];
  const write = (fields: object, message: string) => lines.push(`${message} ${JSON.stringify(fields)}`);
  let now = 1_000_000;
  const log = new LimitedLog({ info: write, warn: write } as unknown as Log, 3, () => now);
  for (let index = 0; index < 1_000; index++) log.info({ index }, 'refused');
  assert.deepEqual(lines, ['refused {"index":0}', 'refused {"index":1}', 'refused {"index":2}']);
  now += 60_000;
  log.info({ index: 'later' }, 'refused');
  assert.deepEqual(lines.slice(3), ['lines were left out of the log {"lines":997}', 'refused {"index":"later"}']);
});
