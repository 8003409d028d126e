const LF = 0x0a;
const ANGLE = 0x3e;
const FROM = Buffer.from('From ', 'latin1');
const ADDED = Buffer.from('>', 'latin1');

/** What stands in place of an author whose address can't be written there; common practice, no source. */
const NOBODY = 'MAILER-DAEMON';
/** An address that holds nothing that would end it, or the line (RFC 4155, appendix A: addr-spec). */
const WRITABLE = /^[\x21-\x7e]{1,200}@[\x21-\x7e]{1,200}$/;

/** The line end behind a message; one that stands by itself ends it (RFC 4155, appendix A). */
export const SEPARATOR = '\n';

/** The line before a message in an mbox file (RFC 4155, appendix A): its author, and when it came in, in UTC. */
export function fromLine(author: string, received: Date): string {
  const [weekday, day, month, year, time] = received.toUTCString().replace(',', '').split(' ');
  const date = `${weekday} ${month} ${String(Number(day)).padStart(2)} ${time} ${year}`;
  return `From ${WRITABLE.test(author) ? author : NOBODY} ${date}\n`;
}

/**
 * The octets of a message as an mbox file holds them: a line of any number of `>` and `From ` gets one `>` more, so that no line
 * begins a message, and `unquoted` gives back what was there (common practice; RFC 4155, appendix A leaves the way open). All
 * else stays, line ends too.
 */
export async function* quoted(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  for await (const { piece, marks } of withMarks(octets, 0)) {
    let from = 0;
    for (const at of marks) {
      if (at > from) yield piece.subarray(from, at);
      yield ADDED;
      from = at;
    }
    if (from < piece.length) yield piece.subarray(from);
  }
}

/** The octets of a message from those of an mbox file that `quoted` gave. */
export async function* unquoted(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  for await (const { piece, marks } of withMarks(octets, 1)) {
    let from = 0;
    for (const at of marks) {
      // A line that begins with `From ` itself was never quoted.
      if (at === 0 || piece[at - 1] !== ANGLE) continue;
      if (at - 1 > from) yield piece.subarray(from, at - 1);
      from = at;
    }
    if (from < piece.length) yield piece.subarray(from);
  }
}

/**
 * The octets in pieces, with where in each stands a `From ` that begins a line but for `>` before it. Of a line of which it is
 * not known yet, its beginning of `From `, and so many `>` before that, are held back for the next piece.
 */
async function* withMarks(
  octets: AsyncIterable<Uint8Array>,
  angles: number,
): AsyncGenerator<{ piece: Buffer; marks: number[] }> {
  let held = Buffer.alloc(0);
  /** Whether nothing but `>` stands between the last line end and the octets that follow. */
  let isOpen = true;
  for await (const next of octets) {
    const all = Buffer.concat([held, next]);
    const marks: number[] = [];
    for (let at = all.indexOf(FROM); at >= 0; at = all.indexOf(FROM, at + FROM.length))
      if (isOpenBefore(all, at, isOpen)) marks.push(at);
    let end = all.length - beginningAtEnd(all);
    if (isOpenBefore(all, end, isOpen)) for (let more = angles; more > 0 && all[end - 1] === ANGLE; more--) end--;
    else end = all.length;
    if (end > 0) {
      yield { piece: all.subarray(0, end), marks };
      isOpen = isOpenBefore(all, end, isOpen);
    }
    held = Buffer.from(all.subarray(end));
  }
  if (held.length > 0) yield { piece: held, marks: [] };
}

/** Whether only `>` stands between the line end before a place and that place; `isOpen` says so of the octets before. */
function isOpenBefore(octets: Buffer, at: number, isOpen: boolean): boolean {
  let before = at - 1;
  while (before >= 0 && octets[before] === ANGLE) before--;
  return before < 0 ? isOpen : octets[before] === LF;
}

/** How many octets at the end may be the beginning of `From `. */
function beginningAtEnd(octets: Buffer): number {
  for (let length = Math.min(FROM.length - 1, octets.length); length > 0; length--)
    if (octets.subarray(octets.length - length).equals(FROM.subarray(0, length))) return length;
  return 0;
}
