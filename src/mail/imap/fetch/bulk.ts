import { MailProblem } from '../../problem';
import type { Channel } from '../channel/channel';
import type { Command, Sent } from '../channel/dialogue';
import type { Cursor } from '../wire/cursor';

/** Commands that the server has before it while it answers, so that the line never waits for the next. */
const UNDER_WAY = 2;

/** One UID FETCH. */
export interface FetchCommand {
  /** What follows `UID FETCH`. */
  text: string;
  /** How many messages it asks for. */
  messages: number;
}

/** Who asked for messages. */
export interface BulkFetch<T> {
  /** The next command; undefined where there are no more. */
  next(): FetchCommand | undefined;
  /** Reads the data items of a message, the cursor before their list; undefined for what nobody asked for. */
  read(cursor: Cursor): T | undefined;
  /** Told when a command was answered in full. */
  answered?(octets: number): void;
  /** Told when the oldest command was answered BAD, which says that it was not carried out (RFC 9051 §7.1.3); whether it is asked for in another way. */
  refused?(): boolean;
  /** Without it a response that can't be read fails the command; with it, it is passed by, and its message missing. */
  passes: boolean;
  /** Milliseconds without a message of those that were asked for. */
  patience: number;
}

/** What a command of a bulk fetch is: what it reads is given to `give`. */
export function fetchCommand<T>(
  { text, messages }: FetchCommand,
  fetch: BulkFetch<T>,
  give: (read: T) => void,
): Command {
  return {
    pieces: [`UID FETCH ${text}`],
    patience: fetch.patience,
    // A server may tell of flags that others changed meanwhile, and of a message twice.
    maxResponses: 4 * messages + 10_000,
    // RFC 5530 §3: some were expunged meanwhile, and the others were fetched.
    forgiven: 'EXPUNGEISSUED',
    take({ word, cursor }) {
      if (word !== 'FETCH') return false;
      const read = fetch.read(cursor);
      if (read === undefined) return false;
      give(read);
      return true;
    },
    ...(fetch.passes ? { passed: () => undefined } : {}),
  };
}

/**
 * Fetches and gives what was read, many at a time: as many as the octets that came held. Throws a MailProblem where a
 * command is refused or the connection is lost.
 */
export async function* fetchInBulk<T>(channel: Channel, fetch: BulkFetch<T>): AsyncGenerator<T[]> {
  const open: Sent[] = [];
  let read: T[] = [];
  let refused: unknown;
  let isWhole = false;
  let octets = channel.octetsRead;
  try {
    for (;;) {
      while (open.length < UNDER_WAY && !refused) {
        const next = fetch.next();
        if (next === undefined) break;
        open.push(channel.send(fetchCommand(next, fetch, (one) => read.push(one))));
      }
      const [first] = open;
      if (!first) break;
      if (!first.status) await channel.step();
      if (read.length > 0) {
        const given = read;
        read = [];
        yield given;
      }
      for (; open[0]?.status; open.shift()) {
        const isAskedAgain = open[0].status.kind === 'BAD' && fetch.refused?.() === true;
        if (!isAskedAgain) fetch.answered?.(channel.octetsRead - octets);
        octets = channel.octetsRead;
        await channel.done(open[0]).catch((error: unknown) => {
          if (!isAskedAgain) refused ??= error;
        });
      }
    }
    isWhole = true;
  } finally {
    // Answers are under way that nobody waits for.
    if (!isWhole) channel.abandon();
  }
  if (refused instanceof MailProblem) throw refused;
}
