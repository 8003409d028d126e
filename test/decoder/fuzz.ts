import assert from 'node:assert/strict';
import { Dialogue } from '../../src/mail/imap/channel/dialogue';
import { fetchCommand } from '../../src/mail/imap/fetch/bulk';
import { OutlineReader, readFlagsRecord } from '../../src/mail/imap/fetch/outline';
import { readRecord } from '../../src/mail/imap/fetch/record';
import { MAX_RESPONSE } from '../../src/mail/imap/wire/framing';
import { SHAPES } from './shapes';

/** What a fuzzing run met. */
export interface Fuzzed {
  inputs: number;
  octets: number;
  /** Messages that were read all the same. */
  read: number;
}

/** Numbers that repeat for a seed (mulberry32). */
function randomOf(seed: number): (below: number) => number {
  let state = seed >>> 0;
  return (below) => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return Math.floor((((mixed ^ (mixed >>> 14)) >>> 0) / 2 ** 32) * below);
  };
}

/** Octets that mean something to the grammar. */
const TELLING = Buffer.from(' "(){}[]\\\r\n*+<>~%0123456789NILnil\0\x7f\xc3\xff=?\'', 'latin1');

/** Changes octets, cuts, doubles, moves, splices in of another, and alters the lengths of literals. */
function mutated(seed: Buffer, other: Buffer, random: (below: number) => number): Buffer {
  let octets: Buffer = Buffer.from(seed);
  for (let turns = 1 + random(6); turns > 0; turns--) {
    const at = random(octets.length + 1);
    const length = random(Math.min(200, octets.length - at) + 1);
    const part = octets.subarray(at, at + length);
    switch (random(8)) {
      case 0:
        if (at < octets.length) octets[at] = random(256);
        break;
      case 1:
        if (at < octets.length) octets[at] = TELLING[random(TELLING.length)] as number;
        break;
      case 2:
        octets = Buffer.concat([octets.subarray(0, at), octets.subarray(at + length)]);
        break;
      case 3:
        octets = Buffer.concat([octets.subarray(0, at), part, octets.subarray(at)]);
        break;
      case 4: {
        const from = random(other.length);
        octets = Buffer.concat([octets.subarray(0, at), other.subarray(from, from + length), octets.subarray(at)]);
        break;
      }
      case 5:
        octets = octets.subarray(0, at);
        break;
      case 6:
        octets = Buffer.concat([
          octets.subarray(0, at),
          Buffer.alloc(random(300), TELLING[random(TELLING.length)]),
          octets.subarray(at),
        ]);
        break;
      default:
        octets = Buffer.from(
          octets
            .toString('latin1')
            .replace(/\{\d+\}/g, (same) =>
              random(3) === 0 ? `{${random(2) === 0 ? random(9) : random(2 ** 31)}}` : same,
            ),
          'latin1',
        );
    }
  }
  return octets;
}

/**
 * Gives the decoder mutations of real responses, each in pieces of its own: nothing may be thrown, nothing may be held
 * beyond the stated limit, and what is read has the form that is promised.
 */
export function fuzzDecoder(inputs: number, seed: number): Fuzzed {
  const random = randomOf(seed);
  const fuzzed: Fuzzed = { inputs, octets: 0, read: 0 };
  const outlines = new OutlineReader();
  for (let input = 0; input < inputs; input++) {
    const octets = mutated(SHAPES[random(SHAPES.length)] as Buffer, SHAPES[random(SHAPES.length)] as Buffer, random);
    const readers = [readRecord, (cursor: Parameters<typeof readRecord>[0]) => outlines.read(cursor), readFlagsRecord];
    const read: { uid: number }[] = [];
    const dialogue = new Dialogue({
      send: () => undefined,
      pour: async () => undefined,
      sendsLiterals: () => true,
      unasked: () => undefined,
    });
    const reader = readers[input % readers.length] as (typeof readers)[number];
    const fetch = { next: () => undefined, read: reader, passes: true, patience: 1_000 };
    dialogue.send(
      fetchCommand<{ uid: number }>({ text: '1:*', messages: 1_000_000 }, fetch, (message) => read.push(message)),
    );
    for (let at = 0; at < octets.length; ) {
      const size = 1 + random(random(4) === 0 ? 7 : octets.length);
      dialogue.push(octets.subarray(at, at + size));
      at += size;
      assert.ok(dialogue.rest().length <= MAX_RESPONSE + octets.length);
    }
    for (const message of read) assert.ok(Number.isSafeInteger(message.uid) && message.uid > 0);
    fuzzed.read += read.length;
    fuzzed.octets += octets.length;
  }
  return fuzzed;
}
