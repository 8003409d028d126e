import assert from 'node:assert/strict';
import { test } from 'node:test';
import { setImmediate as turn } from 'node:timers/promises';
import fc from 'fast-check';
import { HelperLost, ReadAhead } from '../../src/jobs/save/read-ahead';
import { MailProblem } from '../../src/mail/problem';
import type { Downloaded, MailServer, Wanted } from '../../src/mail/server';

const PIECE = 512 * 1024;

/** A connection that gives each section as so many octets as it should have, and is lost once so many sections were begun. */
function connection(takes: () => Promise<unknown>, lostAfter = Number.POSITIVE_INFINITY) {
  const told = { begun: 0, out: 0, most: 0, closed: false };
  async function* downloads(wanted: readonly Wanted[]): AsyncGenerator<Downloaded> {
    for (const [of, { uid, expected }] of wanted.entries()) {
      if (++told.begun > lostAfter) throw new MailProblem('connection-lost', 'lost');
      for (let left = expected; left > 0; left -= PIECE) {
        await takes();
        yield { of, octets: Buffer.alloc(Math.min(left, PIECE), uid) };
        told.out += Math.min(left, PIECE);
        told.most = Math.max(told.most, told.out);
      }
      yield { of, isAtEnd: true };
    }
  }
  const close = async () => {
    told.closed = true;
  };
  return { server: { downloads, close } as unknown as MailServer, told };
}

const share = (generation: number, sizes: readonly number[]) => ({
  generation,
  wanted: sizes.map((expected, at) => ({ uid: (generation * 10 + at) % 256, section: '', expected, most: expected })),
});

test('shares come in their order and whole, whichever connections read them; what a lost one had is told', async () => {
  const sizes = fc.array(fc.array(fc.oneof(fc.nat(100), fc.nat(3 * PIECE)), { minLength: 1, maxLength: 5 }), {
    minLength: 1,
    maxLength: 12,
  });
  await fc.assert(
    fc.asyncProperty(fc.scheduler(), sizes, fc.nat(8), fc.nat(8), async (s, all, one, two) => {
      const takes = () => s.schedule(Promise.resolve());
      const helpers = [connection(takes, one), connection(takes, two)];
      const left = [...helpers];
      const another = async () => (left.shift() ?? assert.fail('a third')).server;
      const ahead = new ReadAhead(connection(takes).server, another, async (_, generation) => generation !== 3);
      ahead.grow();
      let lost = 0;
      const read = async () => {
        let at = 0;
        for await (const { share: of, isThere, pieces } of ahead.each(all.map((each, which) => share(which, each)))) {
          assert.equal(of.generation, at++);
          assert.equal(isThere, of.generation !== 3);
          const came = of.wanted.map(() => 0);
          const ended = new Set<number>();
          try {
            for await (const piece of pieces) {
              if ('octets' in piece) {
                assert.ok(piece.octets.every((octet) => octet === of.wanted[piece.of]?.uid));
                came[piece.of] = (came[piece.of] as number) + piece.octets.length;
              } else ended.add(piece.of);
            }
            if (isThere)
              assert.deepEqual(
                came,
                of.wanted.map(({ expected }) => expected),
              );
          } catch (error) {
            assert.ok(error instanceof HelperLost, String(error));
            lost++;
            for (const which of ended) assert.equal(came[which], of.wanted[which]?.expected);
          }
        }
        assert.equal(at, all.length);
      };
      await s.waitFor(read());
      assert.ok(lost <= 2);
      assert.equal(lost, helpers.filter(({ told }) => told.closed).length, 'each is closed once it is lost');
      await ahead.close();
      assert.ok(helpers.every(({ told }) => told.closed));
    }),
    { numRuns: 100 },
  );
});

test('no more is read ahead than there is room for, and who stops early has all of it ended', async () => {
  const helper = connection(turn);
  const ahead = new ReadAhead(
    connection(turn).server,
    async () => helper.server,
    async () => true,
  );
  ahead.grow();
  const large = 40 * 2 ** 20;
  for await (const { pieces } of ahead.each([share(1, [large]), share(2, [large]), share(4, [large])])) {
    for await (const _ of pieces) await turn();
    // The helpers had all that time.
    assert.ok(helper.told.most <= 2 * (8 * 2 ** 20 + PIECE), `${helper.told.most} octets`);
    break;
  }
  for (let turns = 0; turns < 100; turns++) await turn();
  const { out } = helper.told;
  for (let turns = 0; turns < 100; turns++) await turn();
  assert.equal(helper.told.out, out);
});

test('nor of many small shares, however slowly they are taken', async () => {
  const [first, helper] = [connection(turn), connection(turn)];
  const ahead = new ReadAhead(
    first.server,
    async () => helper.server,
    async () => true,
  );
  ahead.grow();
  const shares = Array.from({ length: 100 }, (_, at) => share(at, [PIECE, PIECE]));
  let taken = 0;
  for await (const { pieces } of ahead.each(shares)) {
    for await (const piece of pieces) if ('octets' in piece) taken += piece.octets.length;
    for (let turns = 0; turns < 50; turns++) await turn();
    const held = first.told.out + helper.told.out - taken;
    // Both helpers are one here, so that three connections fill their room.
    assert.ok(held <= 3 * (8 * 2 ** 20 + PIECE), `${held} octets`);
  }
  assert.equal(taken, 100 * 2 * PIECE);
});

test('what the first connection can’t read is an error, and so is an answer of any that can’t be read', async () => {
  const read = async (first: MailServer, other: MailServer) => {
    const ahead = new ReadAhead(
      first,
      async () => other,
      async () => true,
    );
    ahead.grow();
    for await (const { pieces } of ahead.each([share(1, [9]), share(2, [9]), share(4, [9])]))
      for await (const _ of pieces) await turn();
  };
  await assert.rejects(read(connection(turn, 0).server, connection(turn).server), { kind: 'connection-lost' });
  const odd = {
    ...connection(turn).server,
    // biome-ignore lint/correctness/useYield: it fails before it could.
    async *downloads() {
      throw new MailProblem('unreadable-answer', 'odd');
    },
  } as unknown as MailServer;
  await assert.rejects(read(connection(turn).server, odd), { kind: 'unreadable-answer' });
  const refusing = new ReadAhead(
    connection(turn).server,
    () => Promise.reject(new Error('no more')),
    async () => true,
  );
  refusing.grow();
  let shares = 0;
  for await (const { pieces } of refusing.each([share(1, [9]), share(2, [9])])) {
    for await (const _ of pieces) await turn();
    shares++;
  }
  assert.equal(shares, 2, 'a host that lets only one in is enough');
});
