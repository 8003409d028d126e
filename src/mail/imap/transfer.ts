import { flagNames } from '../../core/mailbox/flags';
import { MailProblem } from '../problem';
import type { AppendedMessage, Arrived } from '../server';
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
/** Commands that the server has before it, so that the line never waits for the next. */
const UNDER_WAY = 4;

/** A piece of a section that was asked for. */
interface Asked {
  sent: Sent;
  from: number;
  /** Null for NIL, undefined while nothing came. */
  octets: Buffer | null | undefined;
}

/**
 * The octets of a section of a message in the open folder (RFC 9051 §6.4.5), in order, a piece at a time: no more than a few
 * pieces are held. Throws `message-gone` where the message or the section is not there.
 *
 * @param expected octets that it should have: as many are asked for at once, and more where there are.
 * @param most octets that are wanted of it.
 */
export async function* sectionOctets(
  channel: Channel,
  uid: number,
  section: string,
  expected: number,
  most: number,
  patience: Patience,
): AsyncGenerator<Buffer> {
  const open: Asked[] = [];
  let next = 0;
  let isWhole = false;
  const ask = () => {
    const length = Math.min(CHUNK, most - next);
    if (length <= 0) return;
    const asked: Asked = { sent: undefined as unknown as Sent, from: next, octets: undefined };
    asked.sent = channel.send({
      pieces: [`UID FETCH ${uid} (UID BODY.PEEK[${section}]<${next}.${length}>)`],
      patience: patience.plain,
      take({ word, cursor }) {
        if (word !== 'FETCH') return false;
        return readPiece(cursor, uid, open);
      },
    });
    open.push(asked);
    next += length;
  };
  try {
    do ask();
    while (open.length < UNDER_WAY && next < Math.min(expected, most));
    for (let first = open[0]; first; first = open[0]) {
      await channel.done(first.sent);
      open.shift();
      if (first.octets === undefined || (first.octets === null && first.from === 0)) throw gone();
      const octets = first.octets ?? Buffer.alloc(0);
      const isLast = octets.length < Math.min(CHUNK, most - first.from);
      if (octets.length > 0) yield octets;
      if (isLast) break;
      // What is longer than it should be is read on, one piece at a time.
      while (open.length === 0 || (open.length < UNDER_WAY && next < Math.min(expected, most))) {
        if (next >= most) break;
        ask();
      }
    }
    for (const { sent } of open) await channel.done(sent);
    isWhole = true;
  } finally {
    // Answers are under way that nobody waits for.
    if (!isWhole && open.some(({ sent }) => !sent.status)) channel.abandon();
  }
}

function gone(): MailProblem {
  return new MailProblem('message-gone', 'The message, or this part of it, is not there any more.');
}

/** Reads a piece, and keeps it with who asked for it; whether anybody did. */
function readPiece(cursor: Cursor, uid: number, open: readonly Asked[]): boolean {
  let of = 0;
  let piece: { from: number; octets: Buffer | null } | undefined;
  cursor.list();
  while (!cursor.closes()) {
    const item = cursor.word();
    const body = /^BODY\[[^\]]*\](?:<(\d{1,15})>)?$/.exec(item);
    if (item === 'UID') of = cursor.number();
    else if (body) piece = { from: Number(body[1] ?? 0), octets: cursor.binary() ?? null };
    else cursor.skip();
  }
  if (!piece || of !== uid) return false;
  const asked = open.find(({ from, octets }) => from === piece.from && octets === undefined);
  if (!asked) return false;
  if (piece.octets && piece.octets.length > CHUNK)
    throw unreadable('The server sent more of a message than was asked for.');
  asked.octets = piece.octets;
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
