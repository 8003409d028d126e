import { FLAG_BITS } from '../mailbox/flags';
import { decodeModifiedUtf7 } from '../mailbox/modified-utf7';

/** What the place of a file in a Maildir says of its message. */
export interface MaildirPlace {
  /** Levels of the Maildir's own folder. */
  levels: string[];
  /** Bits of core/mailbox/flags. */
  flags: number;
  /** `$Forwarded` (RFC 5788) where it was passed on. */
  keywords: string[];
  /** Letters that stand for keywords, which a list beside the messages names. */
  letters: string[];
  /** When it was delivered, as its name begins; null where it does not. */
  delivered: Date | null;
}

/** What stands before the flags. A colon is none in names on some systems, and programs that pack Maildirs replace it. */
const INFO = /[:;!_-]2,([A-Za-z]*)$/;
const FLAGS: Readonly<Record<string, number>> = {
  D: FLAG_BITS.draft,
  F: FLAG_BITS.flagged,
  R: FLAG_BITS.answered,
  S: FLAG_BITS.seen,
  T: FLAG_BITS.deleted,
};

/**
 * Reads the path of a file of a Maildir: `…/cur/1691312707.1.host:2,RS`, or `…/new/…` for one that no program has shown. The form
 * is common practice, published by its author; letters in lower case are Dovecot's keywords.
 *
 * @param path levels parted by `/`.
 * @returns undefined where it is none.
 */
export function maildirPlace(path: string): MaildirPlace | undefined {
  const levels = path.split('/');
  const name = levels.pop() ?? '';
  const kind = levels.pop();
  // Servers keep lists beside the messages, whose names no message has.
  if ((kind !== 'cur' && kind !== 'new') || name === '' || name.startsWith('.') || name.startsWith('dovecot'))
    return undefined;
  const letters = kind === 'cur' ? [...(INFO.exec(name)?.[1] ?? '')] : [];
  const seconds = Number(/^(\d{9,10})\./.exec(name)?.[1] ?? Number.NaN);
  return {
    levels,
    flags: letters.reduce((bits, letter) => bits | (FLAGS[letter] ?? 0), 0),
    keywords: letters.includes('P') ? ['$Forwarded'] : [],
    letters: letters.filter((letter) => letter >= 'a' && letter <= 'z'),
    delivered: Number.isNaN(seconds) ? null : new Date(seconds * 1000),
  };
}

/**
 * The mail folder of a Maildir. Of the form in which a server keeps many (`.Work.Plans` beside the inbox) the dots part levels, and
 * names are in modified UTF-7; else the folders of the file system are those of the mail.
 *
 * @param levels those of the Maildir, without what all have in common; none for the outermost.
 */
export function maildirFolder(levels: readonly string[]): string {
  const last = levels.at(-1) ?? '';
  if (!last.startsWith('.') || last.length < 2) return levels.join('/') || 'INBOX';
  const names = last.slice(1).split('.').filter(Boolean);
  return names.map((name) => decodeModifiedUtf7(name) ?? name).join('/') || 'INBOX';
}

/** Names of keywords by their letters, as Dovecot lists them: a number from 0 and a name on each line. */
export function maildirKeywords(list: string): Map<string, string> {
  const names = new Map<string, string>();
  for (const line of list.split('\n', 100)) {
    const [, number, name] = /^(\d{1,2}) (\S{1,200})\r?$/.exec(line) ?? [];
    if (number !== undefined && name !== undefined && Number(number) < 26)
      names.set(String.fromCharCode('a'.charCodeAt(0) + Number(number)), name);
  }
  return names;
}
