import { FLAG_BITS } from '../mailbox/flags';
import { encodeModifiedUtf7 } from '../mailbox/modified-utf7';

/** What names the file of a message in a Maildir. */
export interface MaildirMessage {
  /** Its number in the archive. */
  id: number;
  size: number;
  received: Date;
  /** Bits of core/mailbox/flags. */
  flags: number;
  keywords: readonly string[];
}

/** Keywords that a folder can name: there are as many letters. */
export const MOST_KEYWORDS = 26;
/** Octets of a name: the common file systems take 255. */
const LONGEST = 240;

/**
 * The folder of a Maildir, as servers keep many beside each other: '' for the inbox, else `.Work.Plans`, in modified UTF-7. A dot in
 * a name would part it in two, so another mark stands for it. Common practice; so Dovecot reads it.
 *
 * @param path of the mail folder, levels parted by `/`.
 */
export function maildirFolderName(path: string): string {
  if (path.toUpperCase() === 'INBOX') return '';
  const levels = path
    .split('/')
    .filter(Boolean)
    .map((level) => encodeModifiedUtf7(level.replaceAll('.', '_')));
  return `.${levels.join('.')}`.slice(0, LONGEST);
}

const LETTERS: readonly (readonly [string, number])[] = [
  ['D', FLAG_BITS.draft],
  ['F', FLAG_BITS.flagged],
  ['R', FLAG_BITS.answered],
  ['S', FLAG_BITS.seen],
  ['T', FLAG_BITS.deleted],
];

/**
 * The name of a message there: when it came in, a number that no other has, its size as Dovecot keeps it, and its flags in the order of
 * their letters.
 *
 * @param letters of the folder's keywords.
 */
export function maildirName(
  { id, size, received, flags, keywords }: MaildirMessage,
  letters: ReadonlyMap<string, string>,
): string {
  const system = LETTERS.filter(([, bit]) => (flags & bit) !== 0).map(([letter]) => letter);
  // Some programs know the letter, and Dovecot the keyword.
  const passed = keywords.includes('$Forwarded') ? ['P'] : [];
  const own = keywords.flatMap((keyword) => letters.get(keyword) ?? []);
  const seconds = Math.max(0, Math.floor(received.getTime() / 1000));
  return `${seconds}.M${id}.tamsel,S=${size}:2,${[...system, ...passed].sort().join('')}${own.sort().join('')}`;
}

/** Letters for keywords, in the order in which they come, as many as there are. */
export function keywordLetters(keywords: Iterable<string>): Map<string, string> {
  const letters = new Map<string, string>();
  for (const keyword of keywords)
    if (!letters.has(keyword) && letters.size < MOST_KEYWORDS)
      letters.set(keyword, String.fromCharCode('a'.charCodeAt(0) + letters.size));
  return letters;
}
