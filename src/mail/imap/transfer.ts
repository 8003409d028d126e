import { printSequenceSet, rangesOf } from '../../core/sets/ranges';
import { isOfOne, MailProblem } from '../problem';
import type { AppendedMessage, Arrived, Downloaded, Wanted } from '../server';
import type { Channel } from './channel/channel';
import type { Sent } from './channel/dialogue';
import { unreadable } from './channel/faults';
import type { Patience } from './channel/timeouts';
import { astring, flagWords, joined } from './commands';
import type { Cursor } from './wire/cursor';
import { writeInternalDate } from './wire/dates';
import type { Status } from './wire/status';

/** Octets that one command asks for of one section, well below what a response may be long. */
const CHUNK = 512 * 1024;
/** Octets that are asked for before they are needed, so that the line never waits for the next command. */
const AHEAD = 4 * CHUNK;
/** Commands that a server has before it. */
const COMMANDS_AHEAD = 32;
/** Sections up to this size are asked for together, so many and so many octets by one command: each command costs both sides. */
const SMALL = 64 * 1024;
const MOST_TOGETHER = 64;
const OCTETS_TOGETHER = 256 * 1024;

/** A piece of a section that was asked for. */
interface Asked {
  batch: Batch;
  uid: number;
  section: string;
  from: number;
  /** Octets that are wanted of it. */
  length: number;
  /** Null for NIL, undefined while nothing came. */
  octets: Buffer | null | undefined;
}

/** A command that asks for pieces. */
interface Batch {
  sent: Sent;
  /** Octets that it asks for of each. */
  length: number;
  /** Pieces that nobody has taken yet. */
  left: number;
  isOfMany: boolean;
}

/**
 * Fetches sections of messages in the open folder (RFC 9051 §6.4.5) a piece at a time, each asked for before it is needed; no
 * more than a few pieces are held.
 */
class Fetching {
  /** What was asked for and not taken yet, by what it is. */
  private readonly open = new Map<string, Asked[]>();
  private readonly batches = new Set<Batch>();
  private octetsOpen = 0;

  constructor(
    private readonly channel: Channel,
    private readonly patience: Patience,
  ) {}

  get isBusy(): boolean {
    return [...this.batches].some(({ sent }) => !sent.status);
  }

  /** Whether there is room for another command. */
  hasRoom(octets: number): boolean {
    if (this.batches.size === 0) return true;
    return this.batches.size < COMMANDS_AHEAD && this.octetsOpen + octets <= AHEAD;
  }

  ask(uid: number, section: string, from: number, length: number): Asked {
    return this.askFor([{ uid, length }], section, from)[0] as Asked;
  }

  /** Asks for the beginnings of a section of several messages, by one command. */
  askTogether(wanted: readonly Wanted[]): Asked[] {
    const pieces = wanted.map(({ uid, most }) => ({ uid, length: most }));
    return this.askFor(pieces, (wanted[0] as Wanted).section, 0);
  }

  private askFor(pieces: readonly { uid: number; length: number }[], section: string, from: number): Asked[] {
    const length = Math.max(...pieces.map((piece) => piece.length));
    const uids = printSequenceSet(rangesOf(pieces.map(({ uid }) => uid)));
    const sent = this.channel.send({
      pieces: [`UID FETCH ${uids} (UID BODY.PEEK[${section}]<${from}.${length}>)`],
      patience: this.patience.plain,
      take: ({ word, cursor }) => word === 'FETCH' && this.take(cursor),
    });
    const batch: Batch = { sent, length, left: pieces.length, isOfMany: pieces.length > 1 };
    this.batches.add(batch);
    return pieces.map((piece) => {
      const asked: Asked = { batch, section, from, octets: undefined, ...piece };
      const key = keyOf(asked);
      const alike = this.open.get(key);
      if (alike) alike.push(asked);
      else this.open.set(key, [asked]);
      this.octetsOpen += asked.length;
      return asked;
    });
  }

  /** The octets of a piece, fewer than were asked for at the end of its section; null where there is no such section. */
  async octetsOf(asked: Asked): Promise<Buffer | null> {
    const { batch, uid, section, from, length } = asked;
    try {
      await this.channel.done(batch.sent);
      return asked.octets ?? null;
    } catch (error) {
      if (!batch.isOfMany || !isOfOne(error) || error.kind === 'throttled') throw error;
    } finally {
      if (batch.sent.status) this.forget(asked);
    }
    // It may be one of the others that the server refuses.
    return this.octetsOf(this.ask(uid, section, from, length));
  }

  private forget(asked: Asked): void {
    const key = keyOf(asked);
    const alike = this.open.get(key) ?? [];
    alike.splice(alike.indexOf(asked), 1);
    if (alike.length === 0) this.open.delete(key);
    this.octetsOpen -= asked.length;
    asked.batch.left--;
    if (asked.batch.left === 0) this.batches.delete(asked.batch);
  }

  /** Takes a piece, and keeps it with who asked for it; whether anybody did. */
  private take(cursor: Cursor): boolean {
    const piece = readPiece(cursor);
    const asked = piece && this.open.get(keyOf(piece))?.find(({ octets }) => octets === undefined);
    if (!asked) return false;
    const { octets } = piece;
    if (octets && octets.length > asked.batch.length)
      throw unreadable('The server sent more of a message than was asked for.');
    // One command asks for as much of each as of the longest.
    asked.octets = octets && octets.length > asked.length ? Buffer.from(octets.subarray(0, asked.length)) : octets;
    return true;
  }
}

function keyOf({ uid, section, from }: Pick<Asked, 'uid' | 'section' | 'from'>): string {
  return `${uid} ${from} ${section}`;
}

/** A section as its pieces are asked for. */
class Section {
  private readonly asked: Asked[] = [];
  private next = 0;
  /** Octets up to which it is asked for before anything came. */
  private readonly likely: number;

  /** @param first its first piece, where that was asked for. */
  constructor(
    private readonly fetching: Fetching,
    private readonly wanted: Wanted,
    first?: Asked,
  ) {
    this.likely = Math.min(wanted.expected, wanted.most);
    if (!first) return;
    this.asked.push(first);
    this.next = first.length;
  }

  /** Asks for what it should have, as far as there is room. Whether all of that is asked for. */
  askAhead(): boolean {
    while (this.next < this.likely || this.next === 0) {
      if (!this.fetching.hasRoom(this.pieceLength)) return false;
      this.ask();
    }
    return true;
  }

  private get pieceLength(): number {
    return Math.min(CHUNK, this.wanted.most - this.next);
  }

  private ask(): void {
    const length = this.pieceLength;
    this.asked.push(this.fetching.ask(this.wanted.uid, this.wanted.section, this.next, length));
    this.next += length;
  }

  /** @param askOthers asks for what comes behind this section, where there is room. */
  async *octets(askOthers: () => void): AsyncGenerator<Buffer> {
    try {
      let isAtEnd = false;
      while (!isAtEnd) {
        if (this.askAhead()) askOthers();
        // What is longer than it should be is read on, one piece at a time.
        if (this.asked.length === 0 && this.next < this.wanted.most) this.ask();
        const first = this.asked.shift();
        if (!first) return;
        const octets = await this.fetching.octetsOf(first);
        if (octets === null && first.from === 0) throw gone();
        if (octets && octets.length > 0) yield octets;
        isAtEnd = (octets?.length ?? 0) < first.length;
      }
    } finally {
      // What lies behind the end is asked for already; its answers are read.
      for (const behind of this.asked.splice(0)) await this.fetching.octetsOf(behind).catch(() => undefined);
    }
  }
}

/**
 * The octets of a section of a message in the open folder, in order, a piece at a time. Throws `message-gone` where the message
 * or the section is not there.
 */
export async function* sectionOctets(channel: Channel, wanted: Wanted, patience: Patience): AsyncGenerator<Buffer> {
  for await (const piece of sectionsOctets(channel, [wanted], patience)) {
    if ('problem' in piece) throw piece.problem;
    if ('octets' in piece) yield piece.octets;
  }
}

/**
 * The octets of many sections of messages in the open folder, one section behind the other, each asked for while the one before
 * it still comes, and small ones together. What the server says of one section alone is given as its problem; the others go on.
 */
export async function* sectionsOctets(
  channel: Channel,
  wanted: readonly Wanted[],
  patience: Patience,
): AsyncGenerator<Downloaded> {
  const fetching = new Fetching(channel, patience);
  const ahead: Section[] = [];
  let begun = 0;
  let isWhole = false;
  const askOthers = () => {
    // Each is asked for to its end before the next one.
    if (ahead.at(-1)?.askAhead() === false) return;
    while (begun < wanted.length) {
      const together = smallOnes(wanted, begun);
      if (together.length > 1) {
        if (!fetching.hasRoom(together.reduce((sum, { most }) => sum + most, 0))) return;
        const asked = fetching.askTogether(together);
        for (const [at, one] of together.entries()) ahead.push(new Section(fetching, one, asked[at]));
        begun += together.length;
        continue;
      }
      const section = new Section(fetching, wanted[begun++] as Wanted);
      ahead.push(section);
      if (!section.askAhead()) return;
    }
  };
  try {
    for (let of = 0; of < wanted.length; of++) {
      if (ahead.length === 0) askOthers();
      const section = ahead.shift() as Section;
      try {
        for await (const octets of section.octets(askOthers)) yield { of, octets };
        yield { of, isAtEnd: true };
      } catch (error) {
        if (!isOfOne(error)) throw error;
        yield { of, problem: error };
      }
    }
    isWhole = true;
  } finally {
    // Answers are under way that nobody waits for.
    if (!isWhole && fetching.isBusy) channel.abandon();
  }
}

/** Sections from one on that one command may ask for: small, alike, and each of another message. */
function smallOnes(wanted: readonly Wanted[], from: number): Wanted[] {
  const { section } = wanted[from] as Wanted;
  const found = new Map<number, Wanted>();
  let octets = 0;
  for (let at = from; at < wanted.length && found.size < MOST_TOGETHER; at++) {
    const one = wanted[at] as Wanted;
    octets += one.most;
    const fits = one.most <= SMALL && octets <= OCTETS_TOGETHER && one.section === section && !found.has(one.uid);
    if (!fits) break;
    found.set(one.uid, one);
  }
  return [...found.values()];
}

function gone(): MailProblem {
  return new MailProblem('message-gone', 'The message, or this part of it, is not there any more.');
}

/** Which piece of which section a response tells, and its octets, null for NIL; undefined where it tells none. */
function readPiece(cursor: Cursor): { uid: number; section: string; from: number; octets: Buffer | null } | undefined {
  let uid = 0;
  let piece: { section: string; from: number; octets: Buffer | null } | undefined;
  cursor.list();
  while (!cursor.closes()) {
    const item = cursor.word();
    const body = /^BODY\[([^\]]*)\](?:<(\d{1,15})>)?$/.exec(item);
    if (item === 'UID') uid = cursor.number();
    else if (body) piece = { section: body[1] ?? '', from: Number(body[2] ?? 0), octets: cursor.binary() ?? null };
    else cursor.skip();
  }
  return piece && { uid, ...piece };
}

/** APPEND (RFC 9051 §6.3.12), with the date and flags that the message is to have. @returns null where the server tells no UID. */
export async function append(
  channel: Channel,
  serverName: string,
  message: AppendedMessage,
  patience: Patience,
): Promise<Arrived> {
  const status = await channel.run({
    pieces: joined(
      'APPEND ',
      astring(serverName),
      ` (${flagWords(message)}) "${writeInternalDate(message.received)}" `,
    ),
    body: { octets: message.size, read: message.read },
    patience: patience.change,
  });
  return arrivedAt(status);
}

/** APPENDUID (RFC 4315 §3). */
function arrivedAt({ code, details }: Status): Arrived {
  const told = code === 'APPENDUID' ? /^(\d{1,10}) (\d{1,10})$/.exec(details.trim()) : null;
  return told ? { uidValidity: Number(told[1]), uid: Number(told[2]) } : null;
}
