import type { LeafBody } from './entity';
import { mixed, Random } from './random';

const CRLF = '\r\n';
const CR = 0x0d;
const LF = 0x0a;
const BASE64 = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/';

/** Octets of base64 (RFC 2045 §6.8) for a number of octets: four for three, lines of 76, each ended. */
export function base64Size(octets: number): number {
  const characters = 4 * Math.ceil(octets / 3);
  return characters + 2 * Math.ceil(characters / 76);
}

/**
 * Octets in base64, in lines of 76 characters.
 *
 * @param write gives the octets; or, where it can, at least so many of the first.
 */
export function base64Body(octets: number, write: (most?: number) => Buffer): LeafBody {
  return {
    kind: 'leaf',
    size: base64Size(octets),
    lines: Math.ceil((4 * Math.ceil(octets / 3)) / 76),
    write: () => base64Lines(write()),
    // Of a start the last line would have padding, which is none of the whole.
    start(most) {
      const lines = Math.ceil(most / 78);
      return base64Lines(write(57 * lines).subarray(0, 57 * lines));
    },
  };
}

function base64Lines(octets: Buffer): Buffer {
  const text = Buffer.from(octets.toString('base64'), 'latin1');
  const out = Buffer.allocUnsafe(base64Size(octets.length));
  for (let from = 0, to = 0; from < text.length; from += 76) {
    to += text.copy(out, to, from, from + 76);
    out[to++] = CR;
    out[to++] = LF;
  }
  return out;
}

/** A binary part in base64, its octets drawn from the seed: the same seed and size is the same file. */
export function binaryBody(seed: number, octets: number): LeafBody {
  const characters = 4 * Math.ceil(octets / 3);
  const lines = Math.ceil(characters / 76);
  const size = base64Size(octets);
  const write = () => {
    const block = base64Block(seed);
    const out = Buffer.allocUnsafe(size);
    for (let at = 0; at < size; at += block.length) block.copy(out, at);
    const padding = (3 - (octets % 3)) % 3;
    // The last four characters in a line of their own making, so that the padding is right.
    const lastLine = characters - 76 * (lines - 1);
    const end = 78 * (lines - 1) + lastLine;
    out.write('A'.repeat(4 - padding) + '='.repeat(padding), end - 4, 'latin1');
    out.write(CRLF, end, 'latin1');
    return out;
  };
  return { kind: 'leaf', size, lines, write };
}

/** 512 lines of 76 characters, repeated through a file. */
function base64Block(seed: number): Buffer {
  const random = new Random(seed);
  const block = Buffer.allocUnsafe(78 * 512);
  for (let line = 0; line < 512; line++) {
    for (let at = 0; at < 76; at += 4) {
      const bits = random.below(0x1000000);
      for (let k = 0; k < 4; k++) block[line * 78 + at + k] = BASE64.charCodeAt((bits >> (6 * k)) & 63);
    }
    block[line * 78 + 76] = 13;
    block[line * 78 + 77] = 10;
  }
  return block;
}

/** Lines to draw text from. */
export type LinePool = readonly string[];

/** A run of lines drawn from a pool by a seed, quoted to a depth; or one line as it stands. */
export type TextSegment =
  | { seed: number; lines: number; pool: LinePool; depth: number }
  | { line: string; depth: number };

/** A text part (US-ASCII or 8-bit octets as latin1) made of segments. */
export function textBody(segments: readonly TextSegment[]): LeafBody {
  let size = 0;
  let lines = 0;
  for (const segment of segments) {
    if ('line' in segment) {
      size += segment.line.length + 2 + 2 * segment.depth;
      lines++;
    } else {
      lines += segment.lines;
      size += segment.lines * (2 + 2 * segment.depth);
      for (let index = 0; index < segment.lines; index++)
        size += (segment.pool[drawn(segment, index)] as string).length;
    }
  }
  const write = () => {
    const out: string[] = [];
    for (const segment of segments) {
      const quote = '> '.repeat(segment.depth);
      if ('line' in segment) out.push(quote, segment.line, CRLF);
      else
        for (let index = 0; index < segment.lines; index++)
          out.push(quote, segment.pool[drawn(segment, index)] as string, CRLF);
    }
    return Buffer.from(out.join(''), 'latin1');
  };
  return { kind: 'leaf', size, lines, write };
}

/** Which line of the pool stands at an index. */
function drawn({ seed, pool }: { seed: number; pool: LinePool }, index: number): number {
  return mixed(seed, index) % pool.length;
}

/** Octets as they are, for parts whose every octet matters. */
export function exactBody(text: string): LeafBody {
  let lines = 0;
  for (const letter of text) if (letter === '\n') lines++;
  return { kind: 'leaf', size: text.length, lines, write: () => Buffer.from(text, 'latin1') };
}
