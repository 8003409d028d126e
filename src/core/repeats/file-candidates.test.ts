import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fileCandidates, octetsAtMost } from './file-candidates';
import { type FileCopyRows, fileGroups } from './file-copies';

/** Octets of base64 in lines (RFC 2045 §6.8), the last one with an end or without. */
function encodedSize(octets: number, lineLength: number, endsLine: boolean): number {
  const characters = 4 * Math.ceil(octets / 3);
  return characters + 2 * (Math.ceil(characters / lineLength) - (endsLine ? 0 : 1));
}

const LINES = fc.constantFrom(76, 72, 64, 60);

test('what base64 tells of the octets of a file is right to the octets of its padding, whatever its lines are', () => {
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 40_000_000 }), LINES, fc.boolean(), (octets, lineLength, endsLine) => {
      const most = octetsAtMost(encodedSize(octets, lineLength, endsLine), lineLength);
      assert.ok(most >= octets && most - octets <= 2, `${most} of ${octets}`);
    }),
  );
});

test('the same file is a candidate with its copies, in lines of whatever length; files of other kinds and lengths are not', () => {
  const file = fc.record({
    octets: fc.constantFrom(90_000, 90_003, 120_000, 333_333),
    kind: fc.nat(1),
    name: fc.nat(2),
    lineLength: LINES,
    endsLine: fc.boolean(),
    isBase64: fc.boolean(),
  });
  fc.assert(
    fc.property(fc.array(file, { maxLength: 30 }), (files) => {
      const size = (one: (typeof files)[number]) =>
        one.isBase64 ? encodedSize(one.octets, one.lineLength, one.endsLine) : one.octets;
      const { rows, starts } = fileCandidates({
        kind: Int32Array.from(files, ({ kind }) => kind),
        size: Float64Array.from(files, size),
        isBase64: Int32Array.from(files, ({ isBase64 }) => Number(isBase64)),
        name: Int32Array.from(files, ({ name }) => name),
      });
      assert.equal(new Set(rows).size, rows.length, 'each in one group');
      const groupOf = new Map<number, number>();
      for (let group = 0; group + 1 < starts.length; group++) {
        const members = rows.subarray(starts[group], starts[group + 1]);
        assert.ok(members.length > 1);
        for (const row of members) groupOf.set(row, group);
        assert.equal(new Set(Array.from(members, (row) => files[row]?.kind)).size, 1);
      }
      for (const [a, one] of files.entries())
        for (const [b, other] of files.entries()) {
          if (a >= b || one.kind !== other.kind || !one.isBase64 || !other.isBase64 || one.octets !== other.octets)
            continue;
          const isFound = groupOf.has(a) && groupOf.get(a) === groupOf.get(b);
          const isUsual = one.lineLength === 76 && other.lineLength === 76;
          if (isUsual || (one.name === other.name && one.name !== 0)) assert.ok(isFound, `${a} with ${b}`);
        }
    }),
  );
});

test('of files with the same octets one stays, none that goes; taken and protected ones never go', () => {
  const row = fc.record({
    digest: fc.nat(3),
    places: fc.array(fc.record({ flags: fc.nat(15), taken: fc.boolean(), guarded: fc.boolean() }), {
      minLength: 1,
      maxLength: 3,
    }),
    received: fc.nat(5),
    answered: fc.boolean(),
    takenOut: fc.boolean(),
  });
  fc.assert(
    fc.property(fc.array(row, { maxLength: 12 }), (all) => {
      const files = all
        .map((file, index) => ({ ...file, id: index + 1 }))
        .sort((a, b) => a.digest - b.digest || a.id - b.id);
      const flat = files.flatMap((file) =>
        file.places.map((place, at) => ({ ...file, ...place, placement: file.id * 10 + at })),
      );
      const ints = (value: (one: (typeof flat)[number]) => number) => Int32Array.from(flat, value);
      const rows: FileCopyRows = {
        digest: ints(({ digest }) => digest),
        file: Float64Array.from(flat, ({ id }) => id),
        placement: ints(({ placement }) => placement),
        size: new Float64Array(flat.length).fill(100),
        received: Float64Array.from(flat, ({ received }) => received),
        flags: ints(({ flags }) => flags),
        isAnswered: ints(({ answered }) => Number(answered)),
      };
      const at = new Map(flat.map((one) => [one.placement, one]));
      const byId = new Map(files.map((file) => [file.id, file]));
      const groups = fileGroups(rows, {
        isGuarded: (id) => at.get(id)?.guarded === true,
        isTaken: (id) => at.get(id)?.taken === true,
        isTakenOut: (id) => byId.get(id)?.takenOut === true,
      });
      assert.equal(groups.length, new Set(files.map(({ digest }) => digest)).size);
      for (const { files: copies, kept, going, bytes } of groups) {
        const free = copies.filter(
          ({ id }) => !byId.get(id)?.takenOut && byId.get(id)?.places.some(({ taken }) => !taken),
        );
        assert.equal(kept !== undefined, free.length > 0);
        if (kept) assert.ok(free.some(({ id }) => id === kept.id) && !going.has(kept.id));
        for (const id of going)
          assert.ok(!byId.get(id)?.takenOut && byId.get(id)?.places.every(({ guarded }) => !guarded));
        assert.equal(bytes, going.size * 100);
      }
    }),
  );
});
