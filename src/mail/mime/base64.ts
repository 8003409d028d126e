const LETTERS = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/';
const NONE = 255;
/** By octet, the six bits that it stands for (RFC 2045 §6.8, table 1). */
const BITS = new Uint8Array(256).fill(NONE);
for (let bits = 0; bits < 64; bits++) BITS[LETTERS.charCodeAt(bits)] = bits;

const [CR, LF, PAD] = [13, 10, 61];
/** Letters of the other alphabet of RFC 4648 §5, which the fast decoder takes and mail has not. */
const NOT_OURS = [45, 95];
const NOTHING = Buffer.alloc(0);

/**
 * Base64 as it comes, a piece at a time. What is not of the alphabet is passed by, and the first padding that is complete is
 * the end (RFC 2045 §6.8). Whole lines go through the platform's decoder, and what it gives is counted; all else goes letter by
 * letter.
 */
export class Base64Decoder {
  /** The end of a piece, behind its last line end. */
  private rest: Buffer = NOTHING;
  /** Letters of a group of four that is not full, and their bits. */
  private letters = 0;
  private bits = 0;
  private pads = 0;
  private isAtEnd = false;

  /** The octets that are certain with this piece. */
  push(piece: Buffer): Buffer {
    if (this.isAtEnd) return NOTHING;
    const octets = this.rest.length === 0 ? piece : Buffer.concat([this.rest, piece]);
    const lines = octets.subarray(0, octets.lastIndexOf(LF) + 1);
    const isEven = lines.length > 0 && this.letters === 0 && this.pads === 0;
    const decoded = isEven ? wholeLines(lines) : undefined;
    if (decoded) {
      this.rest = octets.subarray(lines.length);
      return decoded;
    }
    this.rest = NOTHING;
    return this.slowly(octets);
  }

  /** The octets that are left. A group that is not full gives what its letters hold. */
  end(): Buffer {
    const last = this.slowly(this.rest);
    this.rest = NOTHING;
    const { letters, bits } = this;
    const octets = this.isAtEnd ? [] : letters === 2 ? [bits >> 4] : letters === 3 ? [bits >> 10, bits >> 2] : [];
    return Buffer.concat([last, Buffer.from(octets.map((octet) => octet & 255))]);
  }

  private slowly(octets: Buffer): Buffer {
    const out = Buffer.allocUnsafe(octets.length + 3);
    let length = 0;
    for (let at = 0; at < octets.length && !this.isAtEnd; at++) {
      const octet = octets[at] as number;
      const bits = BITS[octet] as number;
      if (bits !== NONE) {
        // A pad before its place, with letters behind it, is no padding.
        this.pads = 0;
        this.bits = (this.bits << 6) | bits;
        if (++this.letters < 4) continue;
        out[length++] = this.bits >> 16;
        out[length++] = this.bits >> 8;
        out[length++] = this.bits;
        this.letters = this.bits = 0;
      } else if (octet === PAD && this.letters >= 2 && this.letters + ++this.pads === 4) {
        if (this.letters === 3) {
          out[length++] = this.bits >> 10;
          out[length++] = this.bits >> 2;
        } else out[length++] = this.bits >> 4;
        this.isAtEnd = true;
      }
    }
    return out.subarray(0, length);
  }
}

/** Lines that hold nothing but letters, whole groups of them; undefined where they hold anything else. */
function wholeLines(lines: Buffer): Buffer | undefined {
  if (lines.includes(PAD) || NOT_OURS.some((octet) => lines.includes(octet))) return undefined;
  let letters = lines.length;
  for (let at = lines.indexOf(LF); at >= 0; at = lines.indexOf(LF, at + 1)) letters -= lines[at - 1] === CR ? 2 : 1;
  if (letters % 4 !== 0) return undefined;
  const decoded = Buffer.from(lines.toString('latin1'), 'base64');
  // Each letter that is none would be missing here.
  return decoded.length === (letters / 4) * 3 ? decoded : undefined;
}
