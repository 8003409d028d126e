import { type FileHandle, open } from 'node:fs/promises';
import { SEPARATOR, unquoted } from '../core/archive/mbox';
import { hashOf } from './digest';

/** Octets that are read at a time. */
const CHUNK = 1024 * 1024;
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
  try {
    let end = 0;
    for await (const message of messages) {
      const isPassed =
        message.isChecked || (message.at === end && file !== undefined && (await isAsAdded(file, message)));
      const isEqual = file !== undefined && isPassed;
      end = message.at + message.length;
      yield { message, isEqual };
    }
  } finally {
    await file?.close();
  }
}

async function isAsAdded(file: FileHandle, { at, length, size, sha256, line }: MessageOfMbox): Promise<boolean> {
  const from = at + line.length;
  const to = at + length - SEPARATOR.length;
  if (to < from) return false;
  const before = await octetsAt(file, at, from);
  const behind = await octetsAt(file, to, at + length);
  if (before?.toString('latin1') !== line || behind?.toString('latin1') !== SEPARATOR) return false;
  const read = { size: 0, isCut: false };
  const sum = await hashOf(first(unquoted(between(file, from, to, read)), size, read));
  return sum === sha256 && !read.isCut && (read.size === size || read.size === size + 1);
}

async function octetsAt(file: FileHandle, from: number, to: number): Promise<Buffer | undefined> {
  const { bytesRead, buffer } = await file.read(Buffer.alloc(to - from), 0, to - from, from);
  return bytesRead === to - from ? buffer : undefined;
}

async function* between(
  file: FileHandle,
  from: number,
  to: number,
  read: { isCut: boolean },
): AsyncGenerator<Uint8Array> {
  for (let at = from; at < to; ) {
    const length = Math.min(CHUNK, to - at);
    const { bytesRead, buffer } = await file.read(Buffer.allocUnsafe(length), 0, length, at);
    if (bytesRead === 0) {
      read.isCut = true;
      return;
    }
    yield buffer.subarray(0, bytesRead);
    at += bytesRead;
  }
}

/** So many octets; the line end that was added behind them is read and left out. Counts all that came. */
async function* first(
  octets: AsyncIterable<Uint8Array>,
  size: number,
  read: { size: number },
): AsyncGenerator<Uint8Array> {
  for await (const piece of octets) {
    const wanted = piece.subarray(0, Math.max(0, size - read.size));
    const added = piece.subarray(wanted.length);
    read.size += piece.length;
    if (wanted.length > 0) yield wanted;
    if (added.some((octet) => octet !== LF)) read.size = Number.POSITIVE_INFINITY;
  }
}
