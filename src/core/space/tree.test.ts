import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { roomToFill, sharesQuota, unexplained } from './share';
import { sumUp } from './tree';

const folder = fc.record({
  parent: fc.integer({ min: -1, max: 30 }),
  files: fc.nat(9),
  bytes: fc.nat(1e6),
  shared: fc.boolean(),
});

test('each folder is the sum of all below it, as walking down from each one finds it', () => {
  fc.assert(
    fc.property(fc.array(folder, { maxLength: 40 }), (made) => {
      // Folders lie in earlier ones; what lies in what others share is shared too.
      const folders = made.map(({ parent, ...rest }, id) => ({
        ...rest,
        id,
        parent: parent < 0 || parent >= id ? null : parent,
      }));
      for (const each of folders) if (each.parent !== null && folders[each.parent]?.shared) each.shared = true;
      const below = (id: number, shared: boolean): { files: number; bytes: number } => {
        const sum = { files: folders[id]?.files ?? 0, bytes: folders[id]?.bytes ?? 0 };
        for (const each of folders)
          if (each.parent === id && each.shared === shared) {
            const more = below(each.id, shared);
            sum.files += more.files;
            sum.bytes += more.bytes;
          }
        return sum;
      };
      for (const { id, shared, total } of sumUp(folders)) assert.deepEqual(total, below(id, shared));
    }),
  );
  // Ten thousand in each other take no stack.
  const deep = Array.from({ length: 10_000 }, (_, id) => ({
    id,
    parent: id === 0 ? null : id - 1,
    files: 1,
    bytes: 2,
    shared: false,
  }));
  assert.deepEqual(sumUp(deep)[0]?.total, { files: 10_000, bytes: 20_000 });
});

test('files count against the limit of the mailbox where both servers name the same', () => {
  const says = (used: number | null, available: number | null, mailUsed: number | null, limit: number | null) =>
    sharesQuota({ space: { used, available }, mail: { used: mailUsed, limit } });
  assert.equal(says(700, 300_000 - 700, 1024, 300_000), true);
  assert.equal(says(700, 900_000, 1024, 300_000), false, 'a limit of its own');
  assert.equal(says(300_500, 0, 300_032, 300_000), true, 'over the limit nothing is available');
  assert.equal(says(500_000, 0, 300_032, 300_000), false);
  for (const unknown of [says(null, 1, 1, 1), says(1, null, 1, 1), says(1, 1, 1, null)]) assert.equal(unknown, null);
});

test('where mail comes into the same room, or nobody knows, half of it stays free', () => {
  assert.deepEqual([roomToFill(1001, true), roomToFill(1001, null), roomToFill(1001, false)], [500, 500, 1001]);
});

test('what is left is told to the octet where the file server says the same as the mail server', () => {
  assert.deepEqual(unexplained(10_240, 10_000, 10_100), { bytes: 100, toTheOctet: true });
  assert.deepEqual(
    unexplained(10_240, 10_000, 7_000),
    { bytes: 240, toTheOctet: false },
    'the figure is of another time',
  );
  assert.deepEqual(unexplained(10_240, 10_300, null), { bytes: -60, toTheOctet: false });
});
