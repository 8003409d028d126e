import { setTimeout as sleep } from 'node:timers/promises';
import { MailProblem } from './problem';
import type { MailServer } from './server';

const FIRST_WAIT_MS = 250;
const MAX_WAIT_MS = 8_000;
/** After so many refusals of the same command it is refused for good: about half a minute. */
const MAX_TRIES = 8;

/**
 * A server whose plea for patience ([LIMIT], [INUSE], [UNAVAILABLE], RFC 5530) is heard: the same command is sent again,
 * after longer and longer waits. A NO means that the command was not carried out (RFC 9051 §7.1.2), or in part, as a MOVE
 * may be: so sending it again is safe.
 *
 * @param onWait is called before each wait, with its milliseconds.
 */
export function withThrottleRetry(server: MailServer, onWait: (milliseconds: number) => Promise<void>): MailServer {
  async function again<T>(act: () => Promise<T>): Promise<T> {
    for (let tries = 1; ; tries++) {
      try {
        return await act();
      } catch (error) {
        if (!(error instanceof MailProblem) || error.kind !== 'throttled' || tries >= MAX_TRIES) throw error;
        const wait = Math.min(MAX_WAIT_MS, FIRST_WAIT_MS * 2 ** (tries - 1));
        await onWait(wait);
        await sleep(wait);
      }
    }
  }

  /** Once something was given out, beginning again would give it twice. */
  async function* streamed<T>(act: () => AsyncIterable<T>): AsyncGenerator<T> {
    const items = await again(async () => {
      const iterator = act()[Symbol.asyncIterator]();
      return { first: await iterator.next(), iterator };
    });
    for (let { first: item } = items; !item.done; item = await items.iterator.next()) yield item.value;
  }

  return new Proxy(server, {
    get(target, name) {
      const member: unknown = Reflect.get(target, name, target);
      if (typeof member !== 'function') return member;
      // Nothing that a server could refuse.
      if (name === 'close' || name === 'serverNameOf') return member.bind(target);
      return (...input: unknown[]) => {
        if (STREAMS.has(name)) return streamed(() => member.apply(target, input) as AsyncIterable<unknown>);
        return again(() => member.apply(target, input) as Promise<unknown>);
      };
    },
  });
}

const STREAMS = new Set<string | symbol>([
  'metadata',
  'bareMetadata',
  'outlines',
  'flags',
  'download',
  'downloads',
] satisfies (keyof MailServer)[]);
