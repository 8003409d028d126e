import { createHash, type Hash } from 'node:crypto';
import { isTransportField } from '../../core/repeats/transport-fields';

/** A longer header is none: its message is compared as a whole only. */
const MAX_HEADER = 2 ** 20;
const LINE_ENDS = 4;

/** Fields by which two copies are the same message to whoever reads it, besides those of its content. */
const TOLD = new Set(['message-id', 'date', 'from', 'to', 'cc', 'subject']);

/** SHA-256 of a message in three ways; each that is equal in two messages makes the ones behind it equal too. */
export interface TwinDigests {
  /** Of its octets. */
  octets: Buffer;
  /** Of its octets without the fields that servers add on the way; null where its header can't be told from its text. */
  kept: Buffer | null;
  /** Of what is in it, and from whom and to whom it says it is; null too where it has no Message-ID. */
  content: Buffer | null;
}

/** Takes in a message piece by piece. */
export class TwinDigesting {
  private readonly octets = createHash('sha256');
  /** What came of the header; undefined once the text has begun. */
  private header: Buffer[] | undefined = [];
  private held = 0;
  /** The last octets that came, by which the end of the header is told. */
  private last = Buffer.alloc(0);
  private kept: Hash | undefined;
  private content: Hash | undefined;

  add(piece: Buffer): void {
    if (piece.length === 0) return;
    this.octets.update(piece);
    if (!this.header) {
      this.kept?.update(piece);
      this.content?.update(piece);
      return;
    }
    this.header.push(piece);
    this.held += piece.length;
    // The empty line may be parted by the pieces.
    const near = Buffer.concat([this.last, piece]);
    this.last = near.subarray(-3);
    if (near.includes('\r\n\r\n') || this.startsEmpty()) this.endHeader();
    else if (this.held > MAX_HEADER + LINE_ENDS) this.header = undefined;
  }

  end(): TwinDigests {
    // A message may be a header alone.
    if (this.header) this.endHeader();
    return {
      octets: this.octets.digest(),
      kept: this.kept?.digest() ?? null,
      content: this.content?.digest() ?? null,
    };
  }

  /** Whether the message has no header at all. */
  private startsEmpty(): boolean {
    return Buffer.concat((this.header ?? []).slice(0, 2))
      .subarray(0, 2)
      .equals(Buffer.from('\r\n'));
  }

  private endHeader(): void {
    const all = Buffer.concat(this.header ?? []);
    this.header = undefined;
    const empty = all.subarray(0, 2).equals(Buffer.from('\r\n')) ? 0 : all.indexOf('\r\n\r\n');
    const end = empty < 0 ? all.length : empty === 0 ? 0 : empty + 2;
    if (end > MAX_HEADER) return;
    this.kept = createHash('sha256').update('without transport\0');
    const told: string[] = [];
    let hasIdentity = false;
    for (const field of fieldsIn(all.subarray(0, end))) {
      const colon = field.indexOf(':');
      const name = field.subarray(0, Math.max(0, colon)).toString('latin1').trim().toLowerCase();
      if (isTransportField(name)) continue;
      this.kept.update(field);
      if (!TOLD.has(name) && !name.startsWith('content-')) continue;
      const value = field
        .subarray(colon + 1)
        .toString('latin1')
        .replace(/\s+/g, ' ')
        .trim();
      if (name === 'message-id') hasIdentity ||= value !== '';
      told.push(`${name}:${value}`);
    }
    if (hasIdentity) this.content = createHash('sha256').update(`content\0${told.sort().join('\n')}\0`);
    this.kept.update('\0');
    const text = all.subarray(Math.min(all.length, end + (empty < 0 ? 0 : 2)));
    this.kept.update(text);
    this.content?.update(text);
  }
}

/** The fields of a header with their line ends, in their order; a line that begins with a blank goes on with the one before. */
function* fieldsIn(header: Buffer): Generator<Buffer> {
  let start = 0;
  for (let at = 0; at < header.length; ) {
    const feed = header.indexOf('\r\n', at);
    at = feed < 0 ? header.length : feed + 2;
    const next = header[at];
    if (next === 0x20 || next === 0x09) continue;
    yield header.subarray(start, at);
    start = at;
  }
}
