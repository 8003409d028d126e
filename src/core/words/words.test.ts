import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fold } from '../text';
import { type PositionReader, textsContaining } from './phrase';
import { Segment, SegmentBuilder } from './segment';
import { eachToken, withoutLines } from './tokens';
import { eachVarint, VarintWriter } from './varints';

function segmentOf(texts: readonly string[]): { segment: Segment; read: PositionReader } {
  const builder = new SegmentBuilder();
  for (const text of texts) {
    eachToken(text, (token, blanks) => builder.add(token, blanks));
    builder.endText();
  }
  const packed = builder.end();
  const segment = new Segment(packed, texts.length);
  const read = async (tokens: readonly number[]) =>
    tokens.map((token) => packed.positions.subarray(...segment.positionsAt(token)));
  return { segment, read };
}

/** The texts that contain what is wanted, by the index. */
async function found({ segment, read }: ReturnType<typeof segmentOf>, wanted: string): Promise<number[]> {
  const bits = await textsContaining(segment, wanted, read);
  return [...bits.keys()].filter((text) => bits[text] === 1);
}

const letters = fc.constantFrom(...('aabcé0٣語漢😀́ .,-\n'.match(/./gsu) ?? []));
const text = fc.oneof(
  { weight: 3, arbitrary: fc.array(letters, { maxLength: 40 }).map((all) => all.join('')) },
  // Runs that are longer than any word may be.
  fc.tuple(fc.constantFrom('a', 'ab', '語', '😀漢', 'x-'), fc.nat(150)).map(([unit, times]) => unit.repeat(times)),
);

test('what contains a wanted text is told by the index alone, wherever the text is cut out', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(text, { minLength: 1, maxLength: 8 }),
      fc.nat(),
      fc.nat(200),
      fc.nat(120),
      text,
      async (all, which, from, length, other) => {
        // Whatever is searched holds a blank: what stands between the text and the names of the files.
        const texts = all.map((one) => withoutLines(fold(`${one}\n`)));
        const source = texts[which % all.length] as string;
        const index = segmentOf(texts);
        for (const needle of [source.slice(from % (source.length + 1)).slice(0, length), other]) {
          const wanted = withoutLines(fold(needle.toWellFormed()));
          const naive = [...texts.keys()].filter((at) => (texts[at] as string).includes(wanted));
          assert.deepEqual(await found(index, wanted), naive, JSON.stringify([wanted, texts]));
        }
      },
    ),
    { numRuns: 4_000 },
  );
});

test('a part of a word is found, and a phrase only as it stands', async () => {
  const texts = ['the signed lease', 'resigned, leaseholder', 'signed\nlease ', 'signed leases'].map(withoutLines);
  const index = segmentOf(texts);
  assert.deepEqual(await found(index, 'lease'), [0, 1, 2, 3]);
  assert.deepEqual(await found(index, 'signed lease'), [0, 2, 3], 'the last word may go on');
  assert.deepEqual(await found(index, 'signed, lease'), [1], 'the first may have begun before');
  assert.deepEqual(await found(index, ' lease '), [2]);
  assert.deepEqual(await found(index, 'd,'), [1]);
  assert.deepEqual(await found(index, 'zebra'), []);
});

test('a run of any length is found from any place to any other', async () => {
  const run = Array.from({ length: 300 }, (_, at) => String.fromCodePoint(0x4e00 + ((at * 7919) % 20_000))).join('');
  const texts = [`see ${run}`, `${run.slice(0, 150)}x${run.slice(151)}`, run.slice(40), `${run}.`];
  const index = segmentOf(texts);
  for (let from = 0; from < 300; from += 7)
    for (let to = from + 1; to <= 300; to += 11) {
      const wanted = run.slice(from, to);
      const naive = texts.flatMap((one, at) => (one.includes(wanted) ? [at] : []));
      assert.deepEqual(await found(index, wanted), naive, `${from} to ${to}`);
    }
  assert.deepEqual(await found(index, ` ${run}`), [0]);
  assert.deepEqual(await found(index, `${run}.`), [3]);
  assert.deepEqual(await found(index, `${run.slice(100)}.`), [3]);
});

test('numbers of any size are read as they were written; what is cut off is an error', () => {
  fc.assert(
    fc.property(fc.array(fc.maxSafeNat()), (numbers) => {
      const writer = new VarintWriter();
      for (const number of numbers) writer.push(number);
      const read: number[] = [];
      eachVarint(writer.end(), 0, writer.length, (number) => read.push(number));
      assert.deepEqual(read, numbers);
    }),
  );
  assert.throws(() => eachVarint(Uint8Array.of(0x80), 0, 1, () => undefined), RangeError);
  const packed = new SegmentBuilder();
  packed.add('lease', 0);
  packed.endText();
  assert.throws(() => new Segment({ ...packed.end(), numbers: new Uint8Array(9) }, 1), RangeError);
  assert.throws(() => new Segment(packed.end(), 2), RangeError);
});
