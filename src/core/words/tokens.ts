/** Runs of letters, digits and marks (Unicode, general categories L, N and M), and runs of all else but white space. */
const RUN = /[\p{L}\p{N}\p{M}]+|[^\p{L}\p{N}\p{M}\s]+/gu;

/** Code points of a piece, and from the beginning of one to that of the next. */
export const PIECE = 64;
export const STEP = 32;

/** Whether a blank stands right before a token, and right behind it. */
export const BLANK_BEFORE = 1;
export const BLANK_BEHIND = 2;

/**
 * The tokens of a text, in their order: words, and runs of signs between them. A run that is longer than a piece is several
 * tokens that overlap, so that no text makes a token of any length; whatever is at most `STEP` long lies in one of them whole.
 *
 * @param text folded, and without lines.
 */
export function eachToken(text: string, take: (token: string, blanks: number) => void): void {
  for (const match of text.matchAll(RUN)) {
    const [run] = match;
    const end = match.index + run.length;
    const before = text[match.index - 1] === ' ' ? BLANK_BEFORE : 0;
    const behind = text[end] === ' ' ? BLANK_BEHIND : 0;
    const points = run.length > PIECE ? Array.from(run) : undefined;
    if (!points || points.length <= PIECE) {
      take(run, before | behind);
      continue;
    }
    for (let from = 0; ; from += STEP) {
      const isLast = from + PIECE >= points.length;
      take(points.slice(from, from + PIECE).join(''), (from === 0 ? before : 0) | (isLast ? behind : 0));
      if (isLast) break;
    }
  }
}

/** A run of a wanted text. */
export interface WantedRun {
  text: string;
  /** Whether what is found has to begin and end with it: the wanted text goes on before it, and behind it. */
  begins: boolean;
  ends: boolean;
  /** Which blanks stand beside it. */
  blanks: number;
}

/** The runs of a wanted text, folded and without lines. */
export function runsOf(wanted: string): WantedRun[] {
  return Array.from(wanted.matchAll(RUN), (match) => {
    const [text] = match;
    const end = match.index + text.length;
    return {
      text,
      begins: match.index > 0,
      ends: end < wanted.length,
      blanks: (wanted[match.index - 1] === ' ' ? BLANK_BEFORE : 0) | (wanted[end] === ' ' ? BLANK_BEHIND : 0),
    };
  });
}

/** A text as it is searched: folded by the caller, with each run of white space as one blank, since lines are cut anywhere. */
export function withoutLines(folded: string): string {
  return folded.replace(/\s+/gu, ' ');
}
