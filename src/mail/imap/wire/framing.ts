/** Octets of the longest response that is kept whole: metadata of a message is a few hundred. */
export const MAX_RESPONSE = 1024 * 1024;

/** What is kept of a response that is longer, to tell which message it was about. */
const KEPT_OF_SKIPPED = 512;
/** A literal announced as longer than any message is no literal. */
const MAX_LITERAL = 2 ** 32;
/** `{`, ten digits, `+`, `}` and CRLF. */
const MAX_ANNOUNCEMENT = 16;

const LF = 10;
const CR = 13;
const SPACE = 0x20;
const STAR = 0x2a;
const PLUS = 0x2b;
const ZERO = 0x30;
const OPENING_BRACE = 0x7b;
const CLOSING_BRACE = 0x7d;

/** Who is given the responses. The octets are good until the call returns. */
export interface ResponseListener {
  /** One response, its literals included, without the CRLF at its end. */
  response(bytes: Buffer, start: number, end: number): void;
  /** A response longer than the limit, which was thrown away but for its beginning. */
  skipped(bytes: Buffer, start: number, end: number): void;
}

/**
 * Cuts what a server sends into responses (RFC 9051 §2.2.2): lines, and where a line ends in `{n}` the n octets of that
 * literal (§4.3) and the line after it. Takes octets however they are split, looks at each once, and holds no more than one
 * response of bounded length.
 */
export class Framing {
  private buffer = Buffer.allocUnsafe(256 * 1024);
  /** The first octet of the response that is being read. */
  private start = 0;
  /** Up to where it was looked at. */
  private looked = 0;
  private end = 0;
  /** Octets of a literal that are still to come before `looked`. */
  private literal = 0;
  private head: Buffer | undefined;

  constructor(private readonly listener: ResponseListener) {}

  push(chunk: Buffer): void {
    this.append(chunk);
    while (this.advance()) {
      // The next response.
    }
    if (this.end - this.start > MAX_RESPONSE) this.throwAway();
  }

  /** What came of a response that is not whole yet. */
  rest(): Buffer {
    return Buffer.from(this.buffer.subarray(this.start, this.end));
  }

  /** Looks for the end of the response under way and hands it over; false where it is not there yet. */
  private advance(): boolean {
    for (;;) {
      const past = Math.min(this.literal, this.end - this.looked);
      this.looked += past;
      this.literal -= past;
      if (this.literal > 0) return false;
      const lf = this.buffer.indexOf(LF, this.looked);
      if (lf < 0 || lf >= this.end) {
        this.looked = this.end;
        return false;
      }
      this.looked = lf + 1;
      const literal = this.announced(lf);
      if (literal !== undefined) {
        this.literal = literal;
        continue;
      }
      this.handOver(lf > this.start && this.buffer[lf - 1] === CR ? lf - 1 : lf);
      this.start = this.looked;
      return true;
    }
  }

  private handOver(end: number): void {
    if (this.head) this.listener.skipped(this.head, 0, this.head.length);
    else if (end > this.start) this.listener.response(this.buffer, this.start, end);
    this.head = undefined;
  }

  /**
   * How many octets the line that ends here announces as a literal, which may be none; undefined where it ends the response. A
   * quoted string holds no line end, so it can't.
   */
  private announced(lf: number): number | undefined {
    const { buffer } = this;
    if (!this.mayHoldLiteral()) return undefined;
    let at = lf - 1;
    if (buffer[at] === CR) at--;
    if (buffer[at] !== CLOSING_BRACE) return undefined;
    at--;
    if (buffer[at] === PLUS) at--;
    let octets = 0;
    let digits = 0;
    for (; at >= this.start && digits < 10; at--, digits++) {
      const digit = (buffer[at] as number) - ZERO;
      if (digit < 0 || digit > 9) break;
      octets += digit * 10 ** digits;
    }
    const isLiteral = digits > 0 && at >= this.start && buffer[at] === OPENING_BRACE && octets < MAX_LITERAL;
    return isLiteral ? octets : undefined;
  }

  /** The text of a status response is free (RFC 9051 §7.1), so it may look like a literal and is none. */
  private mayHoldLiteral(): boolean {
    const bytes = this.head ?? this.buffer;
    const start = this.head ? 0 : this.start;
    if (bytes[start] !== STAR || bytes[start + 1] !== SPACE) return false;
    const word = bytes
      .toString('latin1', start + 2, Math.min(start + 5, this.head ? bytes.length : this.end))
      .toUpperCase();
    return !/^(OK|NO) |^(BAD|BYE|PRE)/.test(word);
  }

  private append(chunk: Buffer): void {
    if (this.start === this.end) {
      this.start = 0;
      this.looked = 0;
      this.end = 0;
    }
    if (this.end + chunk.length > this.buffer.length) {
      const kept = this.end - this.start;
      const room = kept + chunk.length;
      const next = room > this.buffer.length / 2 ? Buffer.allocUnsafe(room * 2) : this.buffer;
      this.buffer.copy(next, 0, this.start, this.end);
      this.buffer = next;
      this.looked -= this.start;
      this.start = 0;
      this.end = kept;
    }
    chunk.copy(this.buffer, this.end);
    this.end += chunk.length;
  }

  /** Drops what was read of a response that is too long, but for its beginning and what may announce a literal. */
  private throwAway(): void {
    this.head ??= Buffer.from(this.buffer.subarray(this.start, this.start + KEPT_OF_SKIPPED));
    const kept = this.literal > 0 ? 0 : Math.min(MAX_ANNOUNCEMENT, this.end - this.start);
    this.start = this.end - kept;
    this.looked = this.end;
  }
}
