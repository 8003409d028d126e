import type { Region } from '../region';

const LF = 0x0a;
/** Octets of a line; a longer one is passed by. */
const LONGEST = 1024 * 1024;

/** The lines of a file from a place on, each with where the next begins. */
export async function* linesOf(
  region: Region,
  from = 0,
  to = region.size,
): AsyncGenerator<{ text: string; next: number }> {
  let held: Buffer[] = [];
  let length = 0;
  let at = from;
  for await (const piece of region.read(from, to)) {
    let begin = 0;
    for (let feed = piece.indexOf(LF); feed >= 0; feed = piece.indexOf(LF, begin)) {
      const whole =
        length + feed - begin <= LONGEST ? Buffer.concat([...held, piece.subarray(begin, feed)]) : undefined;
      at += length + feed - begin + 1;
      if (whole) yield { text: whole.toString('utf8'), next: at };
      held = [];
      length = 0;
      begin = feed + 1;
    }
    const rest = piece.subarray(begin);
    length += rest.length;
    if (length <= LONGEST) held.push(rest);
    else held = [];
  }
  if (length > 0 && length <= LONGEST) yield { text: Buffer.concat(held).toString('utf8'), next: at + length };
}
