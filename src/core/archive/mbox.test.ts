import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fromLine, quoted, unquoted } from './mbox';

async function through(
  octets: Buffer,
  sizes: readonly number[],
  act: (octets: AsyncIterable<Uint8Array>) => AsyncIterable<Uint8Array>,
): Promise<Buffer> {
  async function* pieces() {
    for (let at = 0, turn = 0; at < octets.length; turn++) {
      const size = sizes[turn % sizes.length] as number;
      yield octets.subarray(at, at + size);
      at += size;
    }
  }
  const given: Uint8Array[] = [];
  for await (const piece of act(pieces())) given.push(Buffer.from(piece));
  return Buffer.concat(given);
}

/** The same by lines, all of it in memory. */
const plainly = (octets: Buffer) =>
  Buffer.from(
    octets
      .toString('latin1')
      .split('\n')
      .map((line) => (/^>*From /.test(line) ? `>${line}` : line))
      .join('\n'),
    'latin1',
  );

const TEXT = fc
  .array(
    fc.constantFrom('From ', 'From', 'Fro', 'F', '>', '>>', '\n', '\r\n', '\r', ' ', 'x', 'From From ', '\0', 'ü'),
    {
      maxLength: 40,
    },
  )
  .map((parts) => Buffer.from(parts.join(''), 'latin1'));
const SIZES = fc.array(fc.integer({ min: 1, max: 9 }), { minLength: 1, maxLength: 5 });

test('what is quoted is what a plain reading by lines gives, in pieces of any size, and is undone', async () => {
  await fc.assert(
    fc.asyncProperty(TEXT, SIZES, SIZES, async (octets, sizes, others) => {
      const inMbox = await through(octets, sizes, quoted);
      assert.deepEqual(inMbox.toString('latin1'), plainly(octets).toString('latin1'));
      assert.deepEqual((await through(inMbox, others, unquoted)).toString('latin1'), octets.toString('latin1'));
    }),
    { numRuns: 3_000 },
  );
});

test('a message of nothing but angles and of nothing but From takes time that grows with it alone', async () => {
  for (const octets of [
    Buffer.alloc(3_000_000, '>'),
    Buffer.alloc(3_000_000, 'From '),
    Buffer.alloc(3_000_000, '>From\n'),
  ]) {
    const inMbox = await through(octets, [65_536], quoted);
    assert.ok((await through(inMbox, [40_000], unquoted)).equals(octets));
  }
});

test('a message begins with its author and when it came in, in UTC', () => {
  const received = new Date('2023-08-06T09:05:07Z');
  assert.equal(fromLine('odile@quorn.example', received), 'From odile@quorn.example Sun Aug  6 09:05:07 2023\n');
  for (const hostile of ['', 'a b@c.example', 'a@b.example\nFrom x@y', 'ü@c.example', `${'a'.repeat(300)}@c.example`])
    assert.equal(fromLine(hostile, received), 'From MAILER-DAEMON Sun Aug  6 09:05:07 2023\n');
});
