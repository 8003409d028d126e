/** Words of a text from which on it is told whether another one quotes it: fewer may stand anywhere. */
const LEAST_WORDS = 12;
/** Marks of quoting at the begin of a line, as common practice has them (RFC 3676 §4.5 has the first). */
const QUOTE = /^(?:[>|»┃] ?)+/;
/** What stands between a letter and the signature (RFC 3676 §4.3). */
const SIGNATURE = /^-- ?$/;
/** Lines of a signature, at most. Common practice, no source. */
const SIGNATURE_LINES = 4;

/**
 * A word, an amount's sign, or a picture among letters. Other signs are put in by programs that wrap and quote, and left out by those that
 * make plain text of HTML.
 */
const WORD = /[\p{L}\p{M}\p{N}]+|[\p{Sc}\p{So}+=±×÷%]/gu;

/** A text as words, in which another text can be looked for. */
export interface Words {
  /** Every word in order, numbered alike for equal words in the texts of one thread. */
  all: Int32Array;
  /** Those in lines that are quoted. */
  quoted: Int32Array;
  /** Those that a later text has to have: without the signature. */
  own: Int32Array;
}

/** Numbers words, the same for the same word. One for each thread. */
export class WordNumbers {
  private readonly numbers = new Map<string, number>();

  /** A text as words. The marks of quoting are left out; lines and capital letters make no difference. */
  wordsOf(text: string): Words {
    const all: number[] = [];
    const quoted: number[] = [];
    let signature: { from: number; lines: number } | undefined;
    for (const line of text.split(/\r\n?|\n/)) {
      const mark = QUOTE.exec(line)?.[0].length ?? 0;
      const from = all.length;
      if (mark === 0 && SIGNATURE.test(line)) signature = { from, lines: 0 };
      for (const [word] of line.slice(mark).normalize('NFKC').toLowerCase().matchAll(WORD)) {
        const number = this.numberOf(word);
        all.push(number);
        if (mark > 0) quoted.push(number);
      }
      if (!signature || all.length === from) continue;
      // What is longer, or quoted, is none: it says something.
      signature.lines++;
      if (mark > 0 || signature.lines > SIGNATURE_LINES) signature = undefined;
    }
    return {
      all: Int32Array.from(all),
      quoted: Int32Array.from(quoted),
      own: Int32Array.from(all.slice(0, signature?.from)),
    };
  }

  private numberOf(word: string): number {
    const known = this.numbers.get(word);
    if (known !== undefined) return known;
    this.numbers.set(word, this.numbers.size);
    return this.numbers.size - 1;
  }
}

/** A message of a thread, by what another would have to hold. Texts: of alternatives each by itself. */
export interface ThreadMessage {
  id: number;
  texts: readonly string[];
  links: readonly string[];
  addresses: ReadonlySet<string>;
  files: readonly string[];
}

/** A message that stands whole in a later one. */
export interface Echo {
  message: number;
  holder: number;
}

/** Later messages that are told to hold a message: where one goes, another is at hand. */
const MOST_HOLDERS = 3;
/** Characters of the texts of one thread: what has more is a log, not a conversation. */
const MOST_TEXT = 8 * 2 ** 20;
/** Words of one thread that are looked at; each is, once for every later message. */
const MOST_WORK = 200_000_000;

/**
 * Finds messages that stand whole in a later one of their thread: every text of them, every address behind a link, every file.
 *
 * @param thread in the order in which they were written.
 */
export function echoesIn(thread: readonly ThreadMessage[]): Echo[] {
  const length = thread.reduce((sum, { texts }) => sum + texts.reduce((of, text) => of + text.length, 0), 0);
  if (length > MOST_TEXT) return [];
  const numbers = new WordNumbers();
  const words = thread.map(({ texts }) => texts.map((text) => numbers.wordsOf(text)));
  const found: Echo[] = [];
  let work = 0;
  for (const [at, message] of thread.entries()) {
    const own = words[at] as Words[];
    if (own.length === 0) continue;
    let holders = 0;
    // The last one is the likeliest to stay.
    for (let later = thread.length - 1; later > at && holders < MOST_HOLDERS; later--) {
      const there = words[later] as Words[];
      work += there.reduce((sum, { all }) => sum + 2 * all.length, 0) * own.length;
      if (work > MOST_WORK) return found;
      const holder = thread[later] as ThreadMessage;
      if (!own.every((text) => there.some((other) => standsIn(text, other))) || !hasAll(message, holder)) continue;
      found.push({ message: message.id, holder: holder.id });
      holders++;
    }
  }
  return found;
}

/** Whether the later message has every file of the earlier one, as often, and leads to all that it leads to. */
function hasAll({ links, files }: ThreadMessage, later: ThreadMessage): boolean {
  if (!links.every((link) => later.addresses.has(link))) return false;
  const left = new Map<string, number>();
  for (const file of later.files) left.set(file, (left.get(file) ?? 0) + 1);
  return files.every((file) => {
    const count = left.get(file) ?? 0;
    left.set(file, count - 1);
    return count > 0;
  });
}

/** Whether a text stands whole in a later one: all of its words in a row, and that is not all that the later one says. */
export function standsIn({ own }: Words, later: Words): boolean {
  if (own.length < LEAST_WORDS || later.own.length <= own.length) return false;
  return contains(later.all, own) || contains(later.quoted, own);
}

/** Whether numbers stand in others, in a row (Knuth, Morris, Pratt: each is looked at a bounded number of times). */
function contains(text: Int32Array, wanted: Int32Array): boolean {
  const fallBack = new Int32Array(wanted.length);
  for (let at = 1, matched = 0; at < wanted.length; at++) {
    while (matched > 0 && wanted[at] !== wanted[matched]) matched = fallBack[matched - 1] as number;
    if (wanted[at] === wanted[matched]) matched++;
    fallBack[at] = matched;
  }
  let matched = 0;
  for (const word of text) {
    while (matched > 0 && word !== wanted[matched]) matched = fallBack[matched - 1] as number;
    if (word === wanted[matched]) matched++;
    if (matched === wanted.length) return true;
  }
  return false;
}
