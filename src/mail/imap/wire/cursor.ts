/** A response that does not keep to the grammar. */
export class Malformed extends Error {}

const TAB = 9;
const LF = 10;
const SPACE = 0x20;
const QUOTE = 0x22;
const OPEN = 0x28;
const CLOSE = 0x29;
const ZERO = 0x30;
const OPENING_BRACKET = 0x5b;
const BACKSLASH = 0x5c;
const CLOSING_BRACKET = 0x5d;
const OPENING_BRACE = 0x7b;
const TILDE = 0x7e;

const LOWER_A = 0x61;
const LOWER_Z = 0x7a;

/** The data items that somebody here reads. */
const ITEMS = [
  'UID',
  'FLAGS',
  'RFC822.SIZE',
  'INTERNALDATE',
  'ENVELOPE',
  'BODYSTRUCTURE',
  'BODY',
  'EMAILID',
  'SAVEDATE',
] as const;
export type Item = (typeof ITEMS)[number];

/** Found by their length, so that no string has to be made of them. */
const BY_LENGTH: Item[][] = [];
for (const item of ITEMS) BY_LENGTH[item.length] = [...(BY_LENGTH[item.length] ?? []), item];

/**
 * Walks the octets of one response and takes values of RFC 9051 §9 out of it. Nothing is made of what is passed by. One
 * string is made of the whole response, of which each value that is ASCII is a slice; others are read as UTF-8.
 *
 * Every method throws Malformed where the octets are not what they should be; no method reads beyond the response.
 */
export class Cursor {
  private bytes: Buffer = Buffer.alloc(0);
  private text = '';
  private base = 0;
  private at = 0;
  private end = 0;
  private marked = 0;

  load(bytes: Buffer, start: number, end: number): void {
    this.bytes = bytes;
    this.text = bytes.toString('latin1', start, end);
    this.base = start;
    this.at = start;
    this.end = end;
    this.marked = start;
  }

  /** Marks where it stands, to come back to. */
  mark(): void {
    this.marked = this.at;
  }

  /** Goes back to the mark. */
  rewind(): void {
    this.at = this.marked;
  }

  /** All that is left, an octet a character. */
  rest(): string {
    const from = this.at;
    this.at = this.end;
    return this.slice(from, this.end);
  }

  /** The next value as it stands, an octet a character: a name in any of the forms of a string. */
  octets(): string {
    this.blanks();
    if (this.isLiteral()) {
      const from = this.passLiteral();
      return this.slice(from, this.at);
    }
    if (this.next() === QUOTE) {
      const from = this.at + 1;
      const escaped = this.passQuoted();
      const text = this.slice(from, this.at - 1);
      return escaped ? text.replace(/\\([\s\S])/g, '$1') : text;
    }
    const from = this.at;
    this.passAtom();
    return this.slice(from, this.at);
  }

  /** The octets of a string in any of its forms, as a copy of their own; undefined for NIL. */
  binary(): Buffer | undefined {
    this.blanks();
    if (this.isLiteral()) {
      const from = this.passLiteral();
      return Buffer.from(this.bytes.subarray(from, this.at));
    }
    const isQuoted = this.next() === QUOTE;
    const octets = this.octets();
    return !isQuoted && octets.toUpperCase() === 'NIL' ? undefined : Buffer.from(octets, 'latin1');
  }

  /** Whether nothing is left. */
  isDone(): boolean {
    return this.next() === undefined;
  }

  /** Takes a `(` where one is next. */
  opens(): boolean {
    return this.takes(OPEN);
  }

  /** Takes a `)` where one is next. */
  closes(): boolean {
    return this.takes(CLOSE);
  }

  /** Takes the `(` that has to be next. */
  list(): void {
    if (!this.opens()) throw new Malformed('a list');
  }

  /** Whether a list is next. */
  isList(): boolean {
    return this.next() === OPEN;
  }

  /** Whether the list that was opened ends here. */
  isEnd(): boolean {
    return this.next() === CLOSE;
  }

  isNumber(): boolean {
    const byte = this.next() ?? 0;
    return byte >= ZERO && byte <= ZERO + 9;
  }

  private next(): number | undefined {
    this.blanks();
    return this.at < this.end ? this.bytes[this.at] : undefined;
  }

  /** Passes by the rest of a list that was opened. */
  leave(): void {
    while (!this.closes()) this.skip();
  }

  private blanks(): void {
    while (this.at < this.end && (this.bytes[this.at] === SPACE || this.bytes[this.at] === TAB)) this.at++;
  }

  private takes(byte: number): boolean {
    if (this.next() !== byte) return false;
    this.at++;
    return true;
  }

  number(): number {
    this.blanks();
    const { bytes } = this;
    let number = 0;
    const from = this.at;
    for (; this.at < this.end; this.at++) {
      const digit = (bytes[this.at] as number) - ZERO;
      if (digit < 0 || digit > 9) break;
      number = number * 10 + digit;
    }
    if (this.at === from || !Number.isSafeInteger(number)) throw new Malformed('a number');
    return number;
  }

  /** An atom, upper case. */
  word(): string {
    this.blanks();
    const from = this.at;
    this.passAtom();
    return this.slice(from, this.at).toUpperCase();
  }

  /** The name of a data item of FETCH, without the section that may follow it; '' for one that is none of ITEMS. */
  item(): Item | '' {
    this.blanks();
    const from = this.at;
    const { bytes, end } = this;
    let length = 0;
    for (let inside = false; this.at < end; this.at++) {
      const byte = bytes[this.at] as number;
      if (byte === OPENING_BRACKET) {
        inside = true;
        length ||= this.at - from;
      } else if (byte === CLOSING_BRACKET) inside = false;
      else if (!inside && (byte === SPACE || byte === OPEN || byte === CLOSE)) break;
    }
    if (this.at === from) throw new Malformed('a data item');
    const candidates = BY_LENGTH[length || this.at - from];
    for (const candidate of candidates ?? []) if (this.says(candidate, from)) return candidate;
    return '';
  }

  /** Whether a word stands somewhere, in any letter case. */
  private says(word: string, from: number): boolean {
    for (let index = 0; index < word.length; index++) {
      const byte = this.bytes[from + index] as number;
      const upper = byte >= LOWER_A && byte <= LOWER_Z ? byte - 0x20 : byte;
      if (upper !== word.charCodeAt(index)) return false;
    }
    return true;
  }

  /** A string in any of its forms, or an atom in its place; null for NIL. */
  string(): string | null {
    this.blanks();
    if (this.isLiteral()) {
      const from = this.passLiteral();
      return this.decoded(from, this.at, false);
    }
    switch (this.next()) {
      case QUOTE:
        return this.quoted();
      case OPEN:
      case CLOSE:
      case undefined:
        throw new Malformed('a string');
      default: {
        const from = this.at;
        this.passAtom();
        const atom = this.slice(from, this.at);
        return atom.length === 3 && atom.toUpperCase() === 'NIL' ? null : atom;
      }
    }
  }

  /** Passes by one value, however deep it goes. */
  skip(): void {
    let depth = 0;
    do {
      const byte = this.next();
      if (byte === undefined || (byte === CLOSE && depth === 0)) throw new Malformed('a value');
      if (byte === OPEN || byte === CLOSE) {
        depth += byte === OPEN ? 1 : -1;
        this.at++;
      } else if (byte === QUOTE) this.passQuoted();
      else if (this.isLiteral()) this.passLiteral();
      else this.passAtom();
    } while (depth > 0);
  }

  private passAtom(): void {
    const from = this.at;
    const { bytes, end } = this;
    for (; this.at < end; this.at++) {
      const byte = bytes[this.at] as number;
      if (byte === SPACE || byte === OPEN || byte === CLOSE || byte === QUOTE || byte === LF) break;
    }
    if (this.at === from) throw new Malformed('an atom');
  }

  private quoted(): string {
    const from = this.at + 1;
    const escaped = this.passQuoted();
    return this.decoded(from, this.at - 1, escaped);
  }

  /** Passes by a quoted string; whether anything in it is escaped. */
  private passQuoted(): boolean {
    const { bytes, end } = this;
    let escaped = false;
    for (let at = this.at + 1; at < end; at++) {
      const byte = bytes[at];
      if (byte === QUOTE) {
        this.at = at + 1;
        return escaped;
      }
      if (byte === BACKSLASH) {
        escaped = true;
        at++;
      }
    }
    throw new Malformed('the end of a quoted string');
  }

  /** `{n}`, or `~{n}` for one that may hold NUL (RFC 9051 §9, literal8). */
  private isLiteral(): boolean {
    const at = this.bytes[this.at] === TILDE ? this.at + 1 : this.at;
    return at < this.end && this.bytes[at] === OPENING_BRACE;
  }

  /** Passes by a literal; gives where its octets begin. */
  private passLiteral(): number {
    this.at = this.bytes.indexOf(OPENING_BRACE, this.at) + 1;
    const octets = this.number();
    const from = this.bytes.indexOf(LF, this.at) + 1;
    if (from === 0 || from - this.at > 4 || from + octets > this.end) throw new Malformed('a literal');
    this.at = from + octets;
    return from;
  }

  private slice(from: number, to: number): string {
    return this.text.slice(from - this.base, to - this.base);
  }

  private decoded(from: number, to: number, escaped: boolean): string {
    const { bytes } = this;
    let ascii = true;
    for (let at = from; at < to; at++) {
      if ((bytes[at] as number) > 0x7f) {
        ascii = false;
        break;
      }
    }
    const text = ascii ? this.slice(from, to) : bytes.toString('utf8', from, to);
    return escaped ? text.replace(/\\([\s\S])/g, '$1') : text;
  }
}
