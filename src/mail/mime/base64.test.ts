import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { Base64Decoder } from './base64';

/** Pieces of a text, cut at places. */
function decodedIn(text: string, cuts: readonly number[]): string {
  const decoder = new Base64Decoder();
  const places = [0, ...cuts.map((cut) => cut % (text.length + 1)).sort((a, b) => a - b), text.length];
  const out = places.slice(1).map((to, at) => decoder.push(Buffer.from(text.slice(places[at], to), 'latin1')));
  return Buffer.concat([...out, decoder.end()]).toString('hex');
}

/** As RFC 2045 §6.8 says it, in the plainest way: letters alone, up to the first padding that fills its group. */
function plainly(text: string): string {
  let letters = '';
  let pads = 0;
  for (const one of text) {
    if (/[A-Za-z0-9+/]/.test(one)) {
      letters += one;
      pads = 0;
    } else if (one === '=' && letters.length % 4 >= 2 && (letters.length % 4) + ++pads === 4) break;
  }
  return Buffer.from(letters, 'base64').toString('hex');
}

test('the examples of RFC 4648 §10', () => {
  for (const [text, octets] of [
    ['', ''],
    ['Zg==', 'f'],
    ['Zm8=', 'fo'],
    ['Zm9v', 'foo'],
    ['Zm9vYg==', 'foob'],
    ['Zm9vYmE=', 'fooba'],
    ['Zm9vYmFy', 'foobar'],
  ] as const)
    for (let cut = 0; cut <= text.length; cut++)
      assert.equal(Buffer.from(decodedIn(text, [cut]), 'hex').toString('latin1'), octets);
});

test('octets come back, whatever their lines and however they are cut', () => {
  fc.assert(
    fc.property(
      fc.uint8Array({ maxLength: 700 }),
      fc.integer({ min: 1, max: 90 }),
      fc.constantFrom('\r\n', '\n', '\r'),
      fc.array(fc.nat(), { maxLength: 6 }),
      (octets, width, end, cuts) => {
        const text = Buffer.from(octets)
          .toString('base64')
          .replace(new RegExp(`.{${width}}`, 'g'), `$&${end}`);
        assert.equal(decodedIn(text, cuts), Buffer.from(octets).toString('hex'));
      },
    ),
  );
});

test('anything at all is decoded as the standard says, and as when it comes in one piece', () => {
  const letters = fc.constantFrom('A', 'Q', 'z', '7', '+', '/', '=', '-', '_', '\r\n', '\n', '\r', '!', '\0', 'ÿ', ' ');
  fc.assert(
    fc.property(fc.array(letters, { maxLength: 120 }), fc.array(fc.nat(), { maxLength: 5 }), (parts, cuts) => {
      const text = parts.join('');
      assert.equal(decodedIn(text, cuts), plainly(text));
    }),
    { numRuns: 2_000 },
  );
});
