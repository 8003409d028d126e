import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import type { Batch } from '../../store/runs/batches';
import { arranged, nextWave, type Routed, sourcesOf } from './wave';

const pending = fc.uniqueArray(
  fc.record({
    generation: fc.integer({ min: 1, max: 5 }),
    destination: fc.option(fc.integer({ min: 1, max: 3 })),
    uid: fc.integer({ min: 1, max: 40 }),
  }),
  { maxLength: 120, selector: ({ generation, uid }) => `${generation} ${uid}` },
);

test('waves hold everything once, each group of one folder to one folder and by UID, never more than asked for', () => {
  fc.assert(
    fc.property(pending, fc.integer({ min: 1, max: 30 }), fc.integer({ min: 1, max: 6 }), (rows, size, batches) => {
      const all = rows.map((row, id) => ({ ...row, id, folder: 1, size: 1, origin: null, flags: 0, keywords: '' }));
      const queue: Routed[] = arranged([...all]);
      const taken: number[] = [];
      while (queue.length > 0) {
        const wave = nextWave(queue, size, batches);
        assert.ok(wave.length >= 1 && wave.length <= batches);
        assert.ok(wave.reduce((sum, { members }) => sum + members.length, 0) <= size);
        for (const { generation, destination, members } of wave) {
          assert.ok(members.every((member) => member.generation === generation && member.destination === destination));
          const uids = members.map(({ uid }) => uid);
          assert.deepEqual(
            uids,
            [...uids].sort((a, b) => a - b),
          );
          for (const { id } of members) taken.push(id);
        }
      }
      assert.deepEqual(
        taken.sort((a, b) => a - b),
        all.map(({ id }) => id),
      );
    }),
  );
});

test('a command reaches over UIDs that stand for nothing, and over no other message', () => {
  const batch = { members: [1, 4, 9, 12].map((uid) => ({ id: uid, uid, arrived: 0 })) } as Batch;
  const group = { generation: 1, destination: 2, members: [] };
  const existing = [
    [1, 1],
    [4, 4],
    [6, 6],
    [9, 9],
    [12, 12],
  ] as const;
  assert.deepEqual(sourcesOf({ ...group, existing }, batch), [
    [1, 4],
    [9, 12],
  ]);
  assert.deepEqual(sourcesOf({ ...group, existing: undefined }, batch).length, 4);
});
