/** Characters of a name of a file or folder. */
const MAX_CHARACTERS = 150;
/** Octets of it in UTF-8: the common file systems take 255. */
const MAX_OCTETS = 240;
/** Characters that are kept of a name's ending, such as `.jpeg`. */
const MAX_ENDING = 12;

/** Code units of a name that are looked at. */
const MAX_READ = 4 * MAX_CHARACTERS;

/** Control characters, marks that turn or hide what stands beside them, and halves of characters. */
const UNSEEN = /[\p{Cc}\p{Cf}\p{Cs}\u2028\u2029]/gu;
/** What separates folders on one of the three common systems, or is not allowed in a name there; `%` is escaped in manifests. */
const FORBIDDEN = /[/\\:*?"<>|%\ufffd]/g;
/** Names that one of them keeps for devices, with any ending. */
const RESERVED = /^(con|prn|aux|nul|(com|lpt)[0-9¹²³])(\.|$)/i;

/**
 * A name for a file or folder that a person recognises and every common system takes: NFC, no separators, control or
 * bidirectional characters, no device, no blank or dot at either end, at most 150 characters. Applied again it changes
 * nothing.
 *
 * @param fallback a safe name, for where nothing is left.
 */
export function safeName(name: string, fallback: string): string {
  // Enough of a hostile one to tell what is kept: its beginning, and its ending.
  const read = name.length > MAX_READ ? name.slice(0, MAX_READ) + parted(name).ending : name;
  const plain = read
    .normalize('NFC')
    .toWellFormed()
    .replace(UNSEEN, '')
    .replace(FORBIDDEN, '_')
    .replace(/\p{Zs}+/gu, ' ');
  const short = trimmed(shortened(trimmed(plain)));
  if (short === '' || /^_+$/.test(short)) return fallback;
  return RESERVED.test(short) ? `_${short}` : short;
}

/** The name with a number before its ending: `plan (2).pdf`. */
export function numbered(name: string, number: number): string {
  const { stem, ending } = parted(name);
  return shortened(`${stem.trimEnd()} (${number})${ending}`, ` (${number})${ending}`);
}

function trimmed(name: string): string {
  return name.replace(/^[. ]+/, '').replace(/[. ]+$/, '');
}

function parted(name: string): { stem: string; ending: string } {
  const dot = name.lastIndexOf('.');
  const isEnding = dot > 0 && name.length - dot <= MAX_ENDING;
  return isEnding ? { stem: name.slice(0, dot), ending: name.slice(dot) } : { stem: name, ending: '' };
}

/** Cuts the stem of a name that is too long. @param tail what has to stay. */
function shortened(name: string, tail = parted(name).ending): string {
  const letters = [...name.slice(0, name.length - tail.length)];
  // One is left free for what may have to be put before a reserved name.
  const most = MAX_CHARACTERS - 1 - [...tail].length;
  let octets = octetsOf(tail);
  let kept = 0;
  while (kept < letters.length && kept < most) {
    octets += octetsOf(letters[kept] as string);
    if (octets > MAX_OCTETS) break;
    kept++;
  }
  return kept === letters.length
    ? name
    : `${letters
        .slice(0, kept)
        .join('')
        .replace(/[. ]+$/, '')}${tail}`;
}

function octetsOf(text: string): number {
  return new TextEncoder().encode(text).length;
}
