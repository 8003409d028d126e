import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fold } from '../text';
import { Segment, SegmentBuilder } from './segment';
import { eachWord, type Fragment, fragmentsOf, withoutLines } from './tokens';
import { eachVarint, VarintWriter } from './varints';

function segmentOf(texts: readonly string[]): Segment {
  const builder = new SegmentBuilder();
  for (const text of texts) {
    eachWord(text, (word) => builder.add(word));
    builder.endText();
  }
  return new Segment(builder.end(), texts.length);
}

/** The texts that have all fragments, by the index. */
function candidates(segment: Segment, fragments: readonly Fragment[]): number[] {
  const found = fragments.map((fragment) => segment.find(fragment));
  return [...Array(segment.texts).keys()].filter((text) => found.every((bits) => bits[text] === 1));
}

const letters = fc.constantFrom(...('aabcé0٣語漢😀́ .,-\n'.match(/./gsu) ?? []));
const text = fc.oneof(
  { weight: 3, arbitrary: fc.array(letters, { maxLength: 40 }).map((all) => all.join('')) },
  // Runs that are longer than any word may be.
  fc.tuple(fc.constantFrom('a', 'ab', '語', '😀漢', 'x-'), fc.nat(150)).map(([unit, times]) => unit.repeat(times)),
);

test('every text that contains what is wanted has its words, and where words are enough, no other text has them', () => {
  fc.assert(
    fc.property(
      fc.array(text, { minLength: 1, maxLength: 8 }),
      fc.nat(),
      fc.nat(200),
      fc.nat(80),
      text,
      (all, which, from, length, other) => {
        const texts = all.map((one) => withoutLines(fold(one)));
        const source = all[which % all.length] as string;
        const segment = segmentOf(texts);
        for (const needle of [source.slice(from % (source.length + 1)).slice(0, length), other]) {
          const wanted = withoutLines(fold(needle.toWellFormed()));
          const { fragments, isExact } = fragmentsOf(wanted);
          const naive = [...texts.keys()].filter((at) => (texts[at] as string).includes(wanted));
          const found = candidates(segment, fragments);
          for (const at of naive) assert.ok(found.includes(at), JSON.stringify([wanted, texts[at]]));
          if (isExact) assert.deepEqual(found, naive, JSON.stringify([wanted, texts]));
        }
      },
    ),
    { numRuns: 2_000 },
  );
});

test('a part of a word is found, and a phrase only where its words end and begin as in it', () => {
  const texts = ['the signed lease', 'resigned, leaseholder', 'signed\nlease', 'signed leases'].map(withoutLines);
  const segment = segmentOf(texts);
  const found = (wanted: string) => candidates(segment, fragmentsOf(wanted).fragments);
  assert.deepEqual(found('lease'), [0, 1, 2, 3]);
  assert.deepEqual(found('signed lease'), [0, 1, 2, 3], 'the last word may go on, the first may have begun before');
  assert.deepEqual(found(' lease.'), [0, 2]);
  assert.deepEqual(found('zebra'), []);
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
  packed.add('lease');
  packed.endText();
  assert.throws(() => new Segment({ ...packed.end(), numbers: new Uint8Array(9) }, 1), RangeError);
});
