import { beginsMessage, LONGEST_FROM_LINE, readFromLine } from '../../core/brought/from-line';
import { contentLengthOf, type Quoting, type QuotingSigns, quotingOf } from '../../core/brought/quoting';
import type { Region } from '../region';

const LF = 0x0a;
const ANGLE = 0x3e;
const FROM = Buffer.from('From ', 'latin1');
/** Octets that are looked through at a time, and those of a header that are read for how long its message is. */
const STEP = 1024 * 1024;
const MOST_HEADER = 64 * 1024;

/** A message of an mbox file that others wrote. */
export interface FoundMessage {
  /** Where its octets are, without the line before it and the empty one behind it. */
  from: number;
  to: number;
  /** What the line before it says; null where that is no instant. */
  received: Date | null;
  /** The file ends in the middle of it. */
  isCut: boolean;
}

/** What an mbox file is, once it was looked through. */
export interface MboxForm {
  quoting: Quoting;
  /** Whether each of its messages says how long it is, and that holds. */
  lengths: boolean;
}

/** Whether octets begin an mbox file. */
export function isMbox(beginning: Buffer): boolean {
  const line = beginning.subarray(0, LONGEST_FROM_LINE).toString('latin1').split('\n', 1)[0] ?? '';
  return readFromLine(line.replace(/\r$/, '')) !== undefined;
}

/** Looks an mbox file through for how it is written. */
export async function formOf(file: Region): Promise<MboxForm> {
  const lengths = await saysLengths(file);
  const signs = await signsOf(file);
  // Lines before messages count among the plain ones.
  if (lengths) for await (const _ of messagesOf(file, true)) signs.plain--;
  return { quoting: quotingOf(signs, lengths), lengths };
}

/** Whether every message says how long it is, and the next begins there. The last may be cut off. */
async function saysLengths(file: Region): Promise<boolean> {
  let at = 0;
  let count = 0;
  while (at < file.size) {
    const next = await byLength(file, at);
    if (!next) return false;
    count++;
    // What is cut off says nothing of itself.
    if (next.isCut) return count > 1;
    at = next.next;
  }
  return count > 0;
}

/** A message whose header says how long it is, and where the next begins; undefined where it does not, or that does not hold. */
async function byLength(file: Region, at: number): Promise<(FoundMessage & { next: number }) | undefined> {
  const line = await lineAt(file, at);
  const received = line && readFromLine(line.text);
  if (!line || received === undefined) return undefined;
  const beginning = await file.octets(line.end, line.end + MOST_HEADER);
  const body = endOfHeader(beginning);
  const length = body === undefined ? undefined : contentLengthOf(beginning.subarray(0, body).toString('latin1'));
  if (body === undefined || length === undefined) return undefined;
  const to = line.end + body + length;
  if (to > file.size) return { from: line.end, to: file.size, received, isCut: true, next: file.size };
  if (to === file.size) return { from: line.end, to, received, isCut: false, next: to };
  // An empty line behind it, or none.
  const behind = await lineAt(file, to);
  const next = behind?.text === '' ? behind.end : to;
  if (next < file.size && !(await begins(file, next, true))) return undefined;
  return { from: line.end, to, received, isCut: false, next };
}

/** Behind the empty line that ends a header; undefined where there is none. */
function endOfHeader(octets: Buffer): number | undefined {
  for (let feed = octets.indexOf(LF); feed >= 0; feed = octets.indexOf(LF, feed + 1)) {
    if (octets[feed + 1] === LF) return feed + 2;
    if (octets[feed + 1] === 0x0d && octets[feed + 2] === LF) return feed + 3;
  }
  return undefined;
}

/** The messages of an mbox file, in their order. */
export async function* messagesOf(file: Region, lengths: boolean): AsyncGenerator<FoundMessage> {
  if (lengths) {
    for (let at = 0; at < file.size; ) {
      const found = await byLength(file, at);
      if (!found) throw new Error('A file changed while it was read.');
      at = found.next;
      yield found;
    }
    return;
  }
  let open: { from: number; received: Date | null } | undefined;
  for await (const at of linesWithFrom(file)) {
    if (!(await begins(file, at, await isBehindEmptyLine(file, at)))) continue;
    if (open) yield { ...open, to: await withoutEmptyLine(file, open.from, at), isCut: false };
    const { text, end } = (await lineAt(file, at)) as Line;
    open = { from: end, received: readFromLine(text) ?? null };
  }
  if (!open) return;
  const { size } = file;
  const isCut = size > open.from && (await file.octets(size - 1, size))[0] !== LF;
  yield { ...open, to: isCut ? size : await withoutEmptyLine(file, open.from, size), isCut };
}

/** Where lines stand that begin with `From `. */
async function* linesWithFrom(file: Region): AsyncGenerator<number> {
  for (let at = 0; at < file.size; at += STEP) {
    // One before and some behind, so that none is cut.
    const from = Math.max(0, at - 1);
    const octets = await file.octets(from, at + STEP + FROM.length - 1);
    for (let found = octets.indexOf(FROM); found >= 0; found = octets.indexOf(FROM, found + 1)) {
      const place = from + found;
      if (place >= at && place < at + STEP && (place === 0 || octets[found - 1] === LF)) yield place;
    }
  }
}

/** A line, without its end, and where the next begins. */
interface Line {
  text: string;
  end: number;
}

/** The line at a place; undefined where it is longer than one that matters. */
async function lineAt(file: Region, at: number): Promise<Line | undefined> {
  const octets = await file.octets(at, at + LONGEST_FROM_LINE + 2);
  const feed = octets.indexOf(LF);
  if (feed < 0 && at + octets.length < file.size) return undefined;
  const text = octets.subarray(0, feed < 0 ? octets.length : feed).toString('latin1');
  return { text: text.replace(/\r$/, ''), end: feed < 0 ? file.size : at + feed + 1 };
}

async function begins(file: Region, at: number, before: boolean): Promise<boolean> {
  const line = await lineAt(file, at);
  if (!line || readFromLine(line.text) === undefined) return false;
  const behind = await file.octets(line.end, line.end + LONGEST_FROM_LINE);
  // Of a long line the beginning tells whether it is a field; of one that the file ends in, nothing does.
  const isCut = line.end + behind.length === file.size && !behind.includes(LF);
  return beginsMessage(line.text, before, isCut ? undefined : behind.toString('latin1').split('\n', 1)[0]);
}

async function isBehindEmptyLine(file: Region, at: number): Promise<boolean> {
  const before = await file.octets(Math.max(0, at - 3), at);
  return at === 0 || /(^|\n)\r?\n$/.test(before.toString('latin1'));
}

/** Where a message ends whose octets end at a place: the empty line behind it parts it from the next (RFC 4155, appendix A). */
async function withoutEmptyLine(file: Region, from: number, to: number): Promise<number> {
  const before = (await file.octets(Math.max(from, to - 4), to)).toString('latin1');
  const ending = /(?:^|\n)(\r?\n)$/.exec(before)?.[1] ?? '';
  return to - ending.length;
}

/** What stands in front of lines that begin with `From `, throughout a file. */
async function signsOf(file: Region): Promise<QuotingSigns> {
  const signs: QuotingSigns = { plain: 0, quoted: 0, oneMore: 0, asMany: 0 };
  for (let at = 0; at < file.size; at += STEP) {
    const from = Math.max(0, at - LONGEST_FROM_LINE);
    const octets = await file.octets(from, at + STEP + FROM.length - 1);
    for (let found = octets.indexOf(FROM); found >= 0; found = octets.indexOf(FROM, found + 1)) {
      const place = from + found;
      if (place < at || place >= at + STEP) continue;
      let line = found;
      while (line > 0 && octets[line - 1] === ANGLE) line--;
      if (line > 0 ? octets[line - 1] !== LF : from > 0) continue;
      const angles = found - line;
      if (angles === 0) signs.plain++;
      else {
        signs.quoted++;
        const before = anglesOfLineBefore(octets, line);
        if (before === angles) signs.asMany++;
        else if (before > 0 && before === angles - 1) signs.oneMore++;
      }
    }
  }
  return signs;
}

/** How many `>` the line before a place begins with; 0 where it is longer than is looked at. */
function anglesOfLineBefore(octets: Buffer, at: number): number {
  let line = at - 1;
  const first = Math.max(0, at - LONGEST_FROM_LINE);
  while (line > first && octets[line - 1] !== LF) line--;
  let angles = 0;
  while (octets[line + angles] === ANGLE) angles++;
  return line < at ? angles : 0;
}
