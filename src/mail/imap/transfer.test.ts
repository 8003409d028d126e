import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { numbersOf, parseSequenceSet } from '../../core/sets/ranges';
import { bySection } from '../sections';
import type { Wanted } from '../server';
import type { Channel } from './channel/channel';
import { type Command, Dialogue, type Sent } from './channel/dialogue';
import { refusal } from './channel/refusals';
import { patienceOf } from './channel/timeouts';
import { sectionsOctets } from './transfer';

/** What a server does about the command that names one message. */
type Whim = 'none' | 'refuses' | 'asks for patience' | 'sends more' | 'is silent of it';

/** A server without a line: it answers commands in their order, the responses of one in any. */
class Scripted {
  readonly commands: string[] = [];
  readonly held: number[] = [];
  abandoned = false;
  private readonly waiting: string[] = [];
  private readonly dialogue: Dialogue;

  constructor(
    private readonly messages: ReadonlyMap<number, Buffer>,
    private readonly whims: ReadonlyMap<number, Whim> = new Map(),
    private readonly isBackwards = false,
  ) {
    this.dialogue = new Dialogue({
      send: (octets) => this.waiting.push(octets.toString('latin1').trimEnd()),
      pour: async () => undefined,
      sendsLiterals: () => false,
      unasked: () => undefined,
    });
  }

  get channel(): Channel {
    const own: Pick<Channel, 'send' | 'done' | 'abandon'> = {
      send: (command: Command) => this.dialogue.send(command),
      done: async (sent: Sent) => {
        while (!sent.status) this.answer(this.waiting.shift() ?? assert.fail('nothing is asked'));
        if (sent.problem) throw sent.problem;
        if (sent.status.kind !== 'OK') throw refusal(sent.status);
        return sent.status;
      },
      abandon: () => {
        this.abandoned = true;
      },
    };
    return own as Channel;
  }

  private answer(line: string): void {
    const [, tag, set, section, from, length] =
      /^(T\d+) UID FETCH (\S+) \(UID BODY\.PEEK\[(.*)\]<(\d+)\.(\d+)>\)$/.exec(line) ?? assert.fail(line);
    this.commands.push(set as string);
    const uids = [...numbersOf(parseSequenceSet(set as string) ?? assert.fail(set))];
    if (this.isBackwards) uids.reverse();
    const refused = uids.find((uid) => ['refuses', 'asks for patience'].includes(this.whims.get(uid) ?? 'none'));
    for (const uid of uids) {
      if (uid === refused) break;
      const all = this.messages.get(uid);
      if (!all || this.whims.get(uid) === 'is silent of it') continue;
      const octets =
        this.whims.get(uid) === 'sends more'
          ? Buffer.alloc(Number(length) + 1)
          : all.subarray(Number(from), Number(from) + Number(length));
      this.dialogue.push(Buffer.from(`* 1 FETCH (UID ${uid} BODY[${section}]<${from}> {${octets.length}}\r\n`));
      this.dialogue.push(octets);
      this.dialogue.push(Buffer.from(')\r\n'));
    }
    const code = this.whims.get(refused ?? 0) === 'asks for patience' ? '[LIMIT] ' : '';
    this.dialogue.push(Buffer.from(refused ? `${tag} NO ${code}not now\r\n` : `${tag} OK\r\n`));
  }
}

function octetsOf(size: number, seed: number): Buffer {
  return Buffer.alloc(size, `octets of ${seed}, `);
}

const whole = (uid: number, size: number): Wanted => ({ uid, section: '', expected: size, most: size + 1 });

/** What came of each: its octets, or the kind of its problem. */
async function fetched(server: Scripted, wanted: readonly Wanted[]): Promise<(Buffer | string)[]> {
  const found: (Buffer | string)[] = [];
  for await (const { octets } of bySection(sectionsOctets(server.channel, wanted, patienceOf(60)))) {
    const pieces: Buffer[] = [];
    try {
      for await (const piece of octets) pieces.push(piece);
      found.push(Buffer.concat(pieces));
    } catch (error) {
      found.push((error as { kind: string }).kind);
    }
  }
  return found;
}

test('messages of any sizes come whole and in their order, however the server orders its responses', async () => {
  const sizes = fc.array(fc.oneof(fc.nat(300), fc.nat(70_000), fc.constant(600_000)), { minLength: 1, maxLength: 100 });
  await fc.assert(
    fc.asyncProperty(sizes, fc.boolean(), fc.nat(4), async (all, isBackwards, lie) => {
      const messages = new Map(all.map((size, at) => [at * 2 + 1, octetsOf(size, at)]));
      // Some are shorter or longer than was said; one octet more shows that.
      const told = (size: number, at: number) => Math.max(0, size + (at % 5 === lie ? (at % 2 === 0 ? 9 : -9) : 0));
      const server = new Scripted(messages, new Map(), isBackwards);
      const wanted = all.map((size, at) => whole(at * 2 + 1, told(size, at)));
      const came = await fetched(server, wanted);
      for (const [at, size] of all.entries()) {
        const most = told(size, at) + 1;
        assert.deepEqual(came[at], octetsOf(size, at).subarray(0, most), `${at} of ${size} octets, told ${most - 1}`);
      }
    }),
    { numRuns: 40 },
  );
});

test('small messages are asked for together', async () => {
  const messages = new Map(Array.from({ length: 1_000 }, (_, at) => [at + 1, octetsOf(500, at)]));
  const server = new Scripted(messages);
  await fetched(
    server,
    [...messages.keys()].map((uid) => whole(uid, 500)),
  );
  assert.ok(server.commands.length <= 20, `${server.commands.length} commands`);
});

test('of several that were asked for together, one that is refused, gone or wrong leaves the others as they are', async () => {
  const messages = new Map(Array.from({ length: 9 }, (_, at) => [at + 1, octetsOf(100, at)]));
  messages.delete(7);
  const wanted = Array.from({ length: 9 }, (_, at) => whole(at + 1, 100));
  const kinds = async (whims: [number, Whim][]) =>
    (await fetched(new Scripted(messages, new Map(whims)), wanted)).map((one) =>
      typeof one === 'string' ? one : one.length,
    );
  const gone = [100, 100, 100, 100, 100, 100, 'message-gone', 100, 100];
  assert.deepEqual(await kinds([]), gone);
  assert.deepEqual(await kinds([[3, 'is silent of it']]), gone.with(2, 'message-gone'));
  assert.deepEqual(await kinds([[4, 'refuses']]), gone.with(3, 'command-refused'));
  assert.deepEqual(new Set((await kinds([[4, 'asks for patience']])).slice(3)), new Set(['throttled']));
  await assert.rejects(kinds([[5, 'sends more']]), { kind: 'unreadable-answer' });
});
