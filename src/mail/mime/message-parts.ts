import { type MimePart, MimeScanner, type MimeStructure } from '../../core/mime/scanner';
import { textOfHtml } from '../html/html-to-text';
import { decodeCharset } from './charset';
import { decoded } from './decoded';

/** Octets of a message up to which it is held in memory; a larger one is read a second time. */
const HELD = 8 * 2 ** 20;

/** A part of a message, and how much of its body is wanted, in octets as they are transferred. */
export interface WantedPart {
  part: MimePart;
  most: number;
}

/** A message with the parts that it is made of. */
export interface OpenedMessage {
  structure: MimeStructure;
  /** All of its octets, once more. */
  octets(): AsyncIterable<Uint8Array>;
  /** The bodies of parts, in their order, as they are transferred. */
  bodies(wanted: readonly WantedPart[]): AsyncGenerator<{ part: MimePart; body: Buffer }>;
}

/** @param read all octets of the message, in order; asked a second time for a large one. */
export async function openMessage(read: () => AsyncIterable<Uint8Array>): Promise<OpenedMessage> {
  const scanner = new MimeScanner();
  let held: Uint8Array[] | undefined = [];
  let size = 0;
  for await (const piece of read()) {
    scanner.push(piece);
    size += piece.length;
    if (size > HELD) held = undefined;
    held?.push(piece);
  }
  const whole = held && Buffer.concat(held);
  return {
    structure: scanner.end(),
    octets: () => (whole ? oneOf(whole) : read()),
    async *bodies(wanted) {
      const reader = whole ? inMemory(whole) : cutFrom(read());
      try {
        for (const { part, most } of wanted)
          yield { part, body: await reader.take(part.bodyFrom, Math.min(part.bodyTo, part.bodyFrom + most)) };
      } finally {
        await reader.close();
      }
    },
  };
}

/** The text of a part that is text (RFC 2046 §4.1), decoded; HTML without its tags. */
export async function textOfPart({ type, charset, encoding }: MimePart, body: Buffer): Promise<string> {
  const pieces: Uint8Array[] = [];
  for await (const piece of decoded(oneOf(body), encoding)) pieces.push(piece);
  const text = decodeCharset(Buffer.concat(pieces), charset || 'utf-8');
  return type === 'text/html' ? textOfHtml(text) : text;
}

async function* oneOf<T>(item: T): AsyncGenerator<T> {
  yield item;
}

/** Octets that are read in order. */
interface Reader {
  /** The octets between two places; places never go back. */
  take(from: number, to: number): Promise<Buffer>;
  close(): Promise<void>;
}

function inMemory(octets: Buffer): Reader {
  return { take: async (from, to) => octets.subarray(from, to), close: async () => undefined };
}

function cutFrom(octets: AsyncIterable<Uint8Array>): Reader {
  const source = octets[Symbol.asyncIterator]();
  let at = 0;
  let rest: Uint8Array = new Uint8Array();
  return {
    async take(from, to) {
      const found: Uint8Array[] = [];
      while (at < to) {
        if (rest.length === 0) {
          const next = await source.next();
          if (next.done) break;
          rest = next.value;
        }
        const begin = Math.min(rest.length, Math.max(0, from - at));
        const end = Math.min(rest.length, to - at);
        if (end > begin) found.push(rest.subarray(begin, end));
        at += end;
        rest = rest.subarray(end);
      }
      return Buffer.concat(found);
    },
    async close() {
      await source.return?.();
    },
  };
}
