/** A run of letters, digits and marks (Unicode, general categories L, N and M). */
const RUN = /[\p{L}\p{N}\p{M}]+/gu;

/** UTF-16 units of a piece, and from one to the next: whatever is at most `SURE` units long lies in one piece whole. */
const PIECE = 64;
const STEP = 32;
export const SURE = 30;

/**
 * The words of a folded text: its runs of letters, digits and marks. A run that is longer than a piece is several words that
 * overlap, the first from its beginning and the last to its end, so that no text makes a word of any length.
 */
export function eachWord(folded: string, take: (word: string) => void): void {
  for (const [run] of folded.matchAll(RUN)) {
    if (run.length <= PIECE) {
      take(run);
      continue;
    }
    for (let from = 0; ; from += STEP) {
      const to = Math.min(run.length, from + PIECE);
      take(run.slice(boundary(run, from), boundary(run, to)));
      if (to === run.length) break;
    }
  }
}

/** A place in a text that is not between the halves of a letter. */
function boundary(text: string, at: number): number {
  const unit = text.charCodeAt(at);
  return unit >= 0xdc00 && unit <= 0xdfff ? at - 1 : at;
}

/** A part of a wanted text that a word has to hold, and where in the word. */
export interface Fragment {
  text: string;
  /** Whether the word begins or ends with it: something other than a letter or digit stands before or behind it. */
  begins: boolean;
  ends: boolean;
}

/**
 * What words a text must have that contains another text.
 *
 * @param isExact every text that has such a word contains the wanted text: nothing but the words has to be looked at.
 */
export function fragmentsOf(folded: string): { fragments: Fragment[]; isExact: boolean } {
  const fragments: Fragment[] = [];
  for (const match of folded.matchAll(RUN)) {
    const [run] = match;
    const begins = match.index > 0;
    const ends = match.index + run.length < folded.length;
    fragments.push(
      run.length <= SURE
        ? { text: run, begins, ends }
        : { text: run.slice(0, boundary(run, SURE)), begins: begins && run.length <= PIECE, ends: false },
    );
  }
  const [first] = fragments;
  return { fragments, isExact: fragments.length === 1 && first?.text === folded };
}

/** A text as it is searched: folded by the caller, with each run of white space as one blank, since lines are cut anywhere. */
export function withoutLines(folded: string): string {
  return folded.replace(/\s+/gu, ' ');
}
