/**
 * Folds a text for comparing: NFC, then full case folding (Unicode, chapter 3.13, toCasefold).
 *
 * ECMAScript has no case folding. Lower(Upper(Lower(x))) is it for all letters but those named below: the
 * first pass turns ẞ into ß, the second spreads ß to SS. Both sides of a comparison must pass through here.
 */
export function fold(text: string): string {
  if (isPrintableAscii(text)) return text.toLowerCase();
  const composed = text.normalize('NFC');
  let folded = '';
  for (const letter of composed) {
    // The dotless i folds to itself though its capital is I.
    folded += letter === 'ı' ? letter : letter.toLowerCase().toUpperCase().toLowerCase();
  }
  // A final sigma folds like any other; ECMAScript lowers by context.
  return folded.replaceAll('ς', 'σ').normalize('NFC');
}

/** Most texts of mail are so plain that there is nothing to do about them; this is told faster than anything is done. */
function isPrintableAscii(text: string): boolean {
  for (let at = 0; at < text.length; at++) {
    const unit = text.charCodeAt(at);
    if (unit < 0x20 || unit > 0x7e) return false;
  }
  return true;
}

/** Makes a text that came from mail storable: PostgreSQL's text can't hold NUL, and a lone surrogate is no character. */
export function storable(text: string): string {
  return text.replaceAll('\0', '\ufffd').toWellFormed();
}

/** Marks that turn the direction of what follows around (UAX #9 §2): in a name they make `fdp.exe` of `exe.pdf`. */
const TURNS = /[\u202a-\u202e\u2066-\u2069]/g;

/**
 * Makes a text that came from mail fit for one line: control characters and line breaks become blanks. Marks that turn the
 * direction around are shown as such, so that a name never spoofs what it is or the words beside it.
 */
export function oneLine(text: string): string {
  if (isPrintableAscii(text)) return text.trim();
  return storable(text)
    .replace(/[\p{Cc}\u2028\u2029]+/gu, ' ')
    .replace(TURNS, '\ufffd')
    .trim();
}
