import { createHash } from 'node:crypto';
import { open } from 'node:fs/promises';
import { SEPARATOR, unquoted } from '../core/archive/mbox';
import { UNREADABLE } from './disk';
import { CHUNK, Window } from './window';

/** Octets of a line before a message: core/archive/mbox writes no longer one. */
const LONGEST_LINE = 1024;
const LF = 0x0a;

/** A message of an mbox file, as it was added (mbox-file.ts). */
export interface MessageOfMbox {
  at: number;
  length: number;
  size: number;
  sha256: string;
  /** The line before it. */
  line: string;
  /** It was read back before, and is passed by. */
  isChecked: boolean;
}

/**
 * Reads the messages of an mbox file back, in their order, and says of each whether it is there as it was added: its line, all of
 * its octets, and nothing between it and the one before it. None is where the file can't be opened.
 */
export async function* readBack<T extends MessageOfMbox>(
  path: string,
  messages: AsyncIterable<T>,
): AsyncGenerator<{ message: T; isEqual: boolean }> {
  const file = await open(path, 'r').catch(() => undefined);
  const window = file && new Window(file);
  try {
    let end = 0;
    for await (const message of messages) {
      const isPassed =
        message.isChecked || (message.at === end && window !== undefined && (await isReadable(window, message)));
      const isEqual = window !== undefined && isPassed;
      end = message.at + message.length;
      yield { message, isEqual };
    }
  } finally {
    await file?.close();
  }
}

/** The octets of a message, of those that it takes in an mbox file from its line on. */
export async function* messageIn(octets: AsyncIterable<Buffer>, size: number): AsyncGenerator<Buffer> {
  let left = size;
  for await (const piece of unquoted(withoutLine(octets))) {
    if (left === 0) continue;
    const own = Buffer.from(piece.buffer, piece.byteOffset, Math.min(left, piece.length));
    left -= own.length;
    yield own;
  }
}

async function* withoutLine(octets: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
  let isBehind = false;
  for await (const piece of octets) {
    const feed = isBehind ? -1 : piece.indexOf(LF);
    if (isBehind) yield piece;
    else if (feed >= 0) {
      isBehind = true;
      yield piece.subarray(feed + 1);
    }
  }
}

/** Whether a message is as it was added; it is not where the disk does not give its octets. */
async function isReadable(window: Window, message: MessageOfMbox): Promise<boolean> {
  try {
    return await isAsAdded(window, message);
  } catch (error) {
    if (UNREADABLE.has((error as NodeJS.ErrnoException).code ?? '')) return false;
    throw error;
  }
}

/** Where a message is in an mbox file, and how many octets it has itself. */
export type PlaceInMbox = Pick<MessageOfMbox, 'at' | 'length' | 'size'>;

/** The octets of one message of an mbox file, as the server sent them; fewer where the file has lost some. */
export async function* messageAt(path: string, { at, length, size }: PlaceInMbox): AsyncGenerator<Buffer> {
  const file = await open(path, 'r');
  try {
    const window = new Window(file, Math.min(CHUNK, length));
    const end = at + length;
    const line = await window.octets(at, Math.min(end, at + LONGEST_LINE));
    const from = line?.indexOf(LF) ?? -1;
    if (from < 0) return;
    let left = size;
    for await (const piece of unquoted(window.between(at + from + 1, end - SEPARATOR.length))) {
      if (left === 0) return;
      const octets = Buffer.from(piece.buffer, piece.byteOffset, Math.min(left, piece.length));
      left -= octets.length;
      yield octets;
    }
  } finally {
    await file.close();
  }
}

async function isAsAdded(window: Window, { at, length, size, sha256, line }: MessageOfMbox): Promise<boolean> {
  const from = at + line.length;
  const to = at + length - SEPARATOR.length;
  if (to < from) return false;
  if ((await window.octets(at, from))?.toString('latin1') !== line) return false;
  const hash = createHash('sha256');
  let read = 0;
  for await (const piece of unquoted(window.between(from, to))) {
    hash.update(piece.subarray(0, Math.max(0, size - read)));
    // What is behind the message is the line end that was added.
    for (let behind = Math.max(0, size - read); behind < piece.length; behind++)
      if (piece[behind] !== LF || read + behind > size) return false;
    read += piece.length;
  }
  if (read < size || hash.digest('hex') !== sha256) return false;
  return (await window.octets(to, at + length))?.toString('latin1') === SEPARATOR;
}
