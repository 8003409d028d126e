import { setTimeout as sleep } from 'node:timers/promises';
import { invalid, Problem } from './problem';
import type { Route } from './route';

/** Octets that a body may have: of somebody unknown, of a sheet of a hundred thousand senders, and else. */
const FROM_STRANGERS = 16 * 2 ** 10;
const LARGE = 16 * 2 ** 20;
const USUAL = 2 ** 20;
/** What is let go of a body that is too large: octets, and for how long. */
const DISCARDED = 4 * 2 ** 20;
const DISCARDED_MS = 1_000;
/** Milliseconds in which a body has to have come. */
const PATIENCE_MS = 60_000;

/**
 * Reads the body of a request as JSON. Its octets are counted as they come, so that no more of it than is allowed is ever held.
 *
 * @throws Problem 415 where it is said to be something else, 413 where it is too large, 408 where it does not come, 422 where it
 * is no JSON.
 */
export async function readBody(request: Request, route: Pick<Route, 'large'>, isKnown: boolean): Promise<unknown> {
  const type = request.headers.get('content-type') ?? '';
  if (!/^application\/json\s*(;|$)/i.test(type)) throw otherType();
  const most = isKnown ? (route.large ? LARGE : USUAL) : FROM_STRANGERS;
  if (Number(request.headers.get('content-length') ?? 0) > most) throw tooLarge();
  const text = await allOctetsOf(request, most);
  try {
    return JSON.parse(text.toString('utf8'));
  } catch {
    throw invalid('The body is not JSON.', [{ field: 'body', expected: 'JSON' }]);
  }
}

async function allOctetsOf(request: Request, most: number): Promise<Buffer> {
  const chunks: Uint8Array[] = [];
  const reader = request.body?.getReader();
  if (!reader) return Buffer.alloc(0);
  let octets = 0;
  let limit: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    limit = setTimeout(() => reject(tooSlow()), PATIENCE_MS);
  });
  try {
    for (;;) {
      const { done, value } = await Promise.race([reader.read(), late]);
      if (done) return Buffer.concat(chunks);
      octets += value.length;
      if (octets > most) {
        await discard(reader);
        throw tooLarge();
      }
      chunks.push(value);
    }
  } catch (error) {
    void reader.cancel().catch(() => undefined);
    throw error;
  } finally {
    clearTimeout(limit);
  }
}

/** Lets a little more come and go, so that who sends it gets to hear the answer before the connection ends. */
async function discard(reader: ReadableStreamDefaultReader<Uint8Array>): Promise<void> {
  const until = Date.now() + DISCARDED_MS;
  for (let octets = 0; octets < DISCARDED && Date.now() < until; ) {
    const { done, value } = await Promise.race([reader.read(), sleep(DISCARDED_MS, { done: true, value: undefined })]);
    if (done) return;
    octets += value?.length ?? 0;
  }
}

// What is not read would be taken for the next request, so the connection ends.
const ENDS = { connection: 'close' };

function otherType(): Problem {
  const detail = 'The body of a request is JSON, and says so: content-type: application/json.';
  return new Problem(415, 'unsupported-media-type', 'Unsupported media type', detail, undefined, ENDS);
}

function tooLarge(): Problem {
  const detail = 'The request is too large. Name criteria instead of ids.';
  return new Problem(413, 'too-large', 'Too large', detail, undefined, ENDS);
}

function tooSlow(): Problem {
  return new Problem(408, 'too-slow', 'Too slow', 'The request did not arrive completely in time.', undefined, ENDS);
}

/**
 * The octets of a body as they come, at most so many.
 *
 * @throws Problem 413 where there are more, 408 where none come for a while.
 */
export async function* octetsOf(request: Request, most: number): AsyncGenerator<Buffer> {
  const reader = request.body?.getReader();
  if (!reader) return;
  let octets = 0;
  try {
    for (;;) {
      const { done, value } = await within(reader.read());
      if (done) return;
      octets += value.length;
      if (octets > most) throw tooLarge();
      yield Buffer.from(value.buffer, value.byteOffset, value.length);
    }
  } finally {
    void reader.cancel().catch(() => undefined);
  }
}

async function within<T>(act: Promise<T>): Promise<T> {
  let limit: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    limit = setTimeout(() => reject(tooSlow()), PATIENCE_MS);
  });
  try {
    return await Promise.race([act, late]);
  } finally {
    clearTimeout(limit);
  }
}
