import { flagNames } from '../../core/mailbox/flags';
import { isOfOne, MailProblem } from '../problem';
import type { AppendedMessage, Arrived, Downloaded, Wanted } from '../server';
import type { Channel } from './channel/channel';
import type { Sent } from './channel/dialogue';
import { unreadable } from './channel/faults';
import type { Patience } from './channel/timeouts';
import { astring, joined } from './commands';
import type { Cursor } from './wire/cursor';
import { writeInternalDate } from './wire/dates';
import type { Status } from './wire/status';

/** Octets that one command asks for, well below what a response may be long. */
const CHUNK = 512 * 1024;
/** Octets that are asked for before they are needed, so that the line never waits for the next command. */
const AHEAD = 4 * CHUNK;
/** Commands that a server has before it. */
const COMMANDS_AHEAD = 32;

/** A piece of a section that was asked for. */
interface Asked {
  sent: Sent;
  uid: number;
  section: string;
  from: number;
  length: number;
  /** Null for NIL, undefined while nothing came. */
  octets: Buffer | null | undefined;
}

/**
 * Fetches sections of messages in the open folder (RFC 9051 §6.4.5) a piece at a time, each asked for before it is needed; no
 * more than a few pieces are held.
 */
class Fetching {
  private readonly open: Asked[] = [];

  constructor(
    private readonly channel: Channel,
    private readonly patience: Patience,
  ) {}

  get isBusy(): boolean {
    return this.open.some(({ sent }) => !sent.status);
  }

  /** Whether there is room for another piece. */
  hasRoom(length: number): boolean {
    const octets = this.open.reduce((sum, asked) => sum + asked.length, 0);
    return this.open.length === 0 || (this.open.length < COMMANDS_AHEAD && octets + length <= AHEAD);
  }

  ask(uid: number, section: string, from: number, length: number): Asked {
    const asked: Asked = { sent: undefined as unknown as Sent, uid, section, from, length, octets: undefined };
    asked.sent = this.channel.send({
      pieces: [`UID FETCH ${uid} (UID BODY.PEEK[${section}]<${from}.${length}>)`],
      patience: this.patience.plain,
      take: ({ word, cursor }) => word === 'FETCH' && readPiece(cursor, this.open),
    });
    this.open.push(asked);
    return asked;
  }

  /** The octets of a piece, fewer than were asked for at the end of its section; null where there is no such section. */
  async octetsOf(asked: Asked): Promise<Buffer | null> {
    try {
      await this.channel.done(asked.sent);
    } finally {
      if (asked.sent.status) this.open.splice(this.open.indexOf(asked), 1);
    }
    return asked.octets ?? null;
  }
}

/** A section as its pieces are asked for. */
class Section {
  private readonly asked: Asked[] = [];
  private next = 0;
  /** Octets up to which it is asked for before anything came. */
  private readonly likely: number;

  constructor(
    private readonly fetching: Fetching,
    private readonly wanted: Wanted,
  ) {
    this.likely = Math.min(wanted.expected, wanted.most);
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
 * it still comes. What the server says of one section alone is given as its problem; the others go on.
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
    for (const section of ahead) if (!section.askAhead()) return;
    while (begun < wanted.length) {
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

function gone(): MailProblem {
  return new MailProblem('message-gone', 'The message, or this part of it, is not there any more.');
}

/** Reads a piece, and keeps it with who asked for it; whether anybody did. */
function readPiece(cursor: Cursor, open: readonly Asked[]): boolean {
  let of = 0;
  let piece: { section: string; from: number; octets: Buffer | null } | undefined;
  cursor.list();
  while (!cursor.closes()) {
    const item = cursor.word();
    const body = /^BODY\[([^\]]*)\](?:<(\d{1,15})>)?$/.exec(item);
    if (item === 'UID') of = cursor.number();
    else if (body) piece = { section: body[1] ?? '', from: Number(body[2] ?? 0), octets: cursor.binary() ?? null };
    else cursor.skip();
  }
  if (!piece) return false;
  const { section, from, octets } = piece;
  const isOf = (one: Asked) => one.uid === of && one.section === section && one.from === from;
  const asked = open.find((one) => isOf(one) && one.octets === undefined);
  if (!asked) return false;
  if (octets && octets.length > asked.length) throw unreadable('The server sent more of a message than was asked for.');
  asked.octets = octets;
  return true;
}

/** APPEND (RFC 9051 §6.3.12), with the date and flags that the message is to have. @returns null where the server tells no UID. */
export async function append(
  channel: Channel,
  serverName: string,
  message: AppendedMessage,
  patience: Patience,
): Promise<Arrived> {
  const flags = [...flagNames(message.flags).map((name) => `\\${name}`), ...message.keywords].join(' ');
  const status = await channel.run({
    pieces: joined('APPEND ', astring(serverName), ` (${flags}) "${writeInternalDate(message.received)}" `),
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
