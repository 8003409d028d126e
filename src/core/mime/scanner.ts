import { type BodyFields, bodyFieldsOf } from './fields';

const LF = 10;
const CR = 13;
const DASH = 0x2d;

/** Octets of the header of one part that are read: more than that is no header. */
const MAX_HEADER = 256 * 1024;
/** Octets of a line that are looked at: a boundary has at most 70 characters (RFC 2046 §5.1.1). */
const MAX_LINE = 1024;
const MAX_PARTS = 10_000;
const MAX_DEPTH = 64;

/** A part of a message, with where its octets stand in it. */
export interface MimePart extends BodyFields {
  /** Its section (RFC 9051 §6.4.5.1); '' for a message that is a multipart. */
  section: string;
  parent: MimePart | undefined;
  /** Its header with the blank line at its end is `[headerFrom, bodyFrom)`, its body `[bodyFrom, bodyTo)`. */
  headerFrom: number;
  bodyFrom: number;
  bodyTo: number;
  /** The header, an octet a character. */
  header: string;
  /** Whether the header is that of a message, whose other fields are not about its body. */
  isMessage: boolean;
  /** Of a multipart: whether its last boundary was there. */
  isClosed: boolean;
}

/** What a message is made of. */
export interface MimeStructure {
  /** In the order in which they begin. */
  parts: MimePart[];
  /** Octets. */
  size: number;
  /** Why its parts can't be told for certain; undefined where they can. */
  doubt: 'ambiguous' | 'header-too-long' | 'too-many-parts' | 'too-deep' | undefined;
}

/** A multipart that is being read. */
interface OpenMultipart {
  part: MimePart;
  delimiter: string;
  children: number;
}

/**
 * Finds the parts of a message (RFC 2045, 2046) in its octets, however they are cut, looking at each once and keeping no more
 * than a header and the beginning of a line. Nothing is decoded.
 */
export class MimeScanner {
  private readonly parts: MimePart[] = [];
  private readonly open: OpenMultipart[] = [];
  private doubt: MimeStructure['doubt'];
  /** The part whose header or body is being read. */
  private current: MimePart;
  private inHeader = true;
  private header = '';
  /** Octets that were read. */
  private size = 0;
  /** Where the line that is being read begins, its first octets, and its last octet before the line feed. */
  private lineFrom = 0;
  private line = '';
  private last = 0;
  /** Where the body would end if a delimiter stood in the line that is being read. */
  private bodyTo = 0;

  constructor() {
    this.current = this.begun(undefined, '', 0, true);
  }

  push(octets: Uint8Array): void {
    for (let at = 0; at < octets.length; ) {
      const feed = octets.indexOf(LF, at);
      const end = feed < 0 ? octets.length : feed;
      this.keep(octets, at, end);
      this.size += end - at;
      at = end;
      if (feed < 0) return;
      this.size++;
      at++;
      this.lineEnded(this.last === CR ? 2 : 1);
    }
  }

  end(): MimeStructure {
    if (this.size > this.lineFrom) this.lineEnded(0);
    while (this.inHeader) this.headerEnded(this.size);
    this.bodiesEnd(undefined, this.size);
    return { parts: this.parts, size: this.size, doubt: this.doubt };
  }

  /** Keeps what may be a field or a delimiter. */
  private keep(octets: Uint8Array, from: number, to: number): void {
    if (to > from) this.last = octets[to - 1] as number;
    else if (this.size === this.lineFrom) this.last = 0;
    const mayMatter = this.inHeader || (this.size === this.lineFrom ? octets[from] === DASH : this.line !== '');
    if (!mayMatter) return;
    const most = this.inHeader ? MAX_HEADER : MAX_LINE;
    const until = Math.min(to, from + most - this.line.length);
    for (let at = from; at < until; at++) this.line += String.fromCharCode(octets[at] as number);
  }

  /** @param ending octets of the line end: 2 for CRLF, 1 for a bare LF, 0 at the end of the message. */
  private lineEnded(ending: number): void {
    const { lineFrom, size } = this;
    const line = ending === 2 && this.line.endsWith('\r') ? this.line.slice(0, -1) : this.line;
    const text = line.length + ending === size - lineFrom ? line : undefined;
    this.line = '';
    this.lineFrom = size;
    // A line that was not kept whole is longer than a delimiter may be, or does not begin like one.
    if (this.open.length > 0 && line.startsWith('--') && this.isDelimiter(withoutPadding(line), lineFrom, size, ending))
      return;
    if (this.inHeader) this.headerLine(text, lineFrom, size, ending);
    this.bodyTo = size - ending;
  }

  private isDelimiter(line: string, from: number, to: number, ending: number): boolean {
    for (let depth = this.open.length - 1; depth >= 0; depth--) {
      const { delimiter } = this.open[depth] as OpenMultipart;
      if (line !== delimiter && line !== `${delimiter}--`) continue;
      const isLast = line !== delimiter;
      this.delimited(depth, from, to, isLast);
      // The line end behind the last one belongs to the delimiter that follows, where one does.
      this.bodyTo = isLast ? to - ending : to;
      return true;
    }
    // Some programs take a line for a delimiter that only begins like one (RFC 2046 §5.1.1): which part it is in is not certain.
    if (this.open.some(({ delimiter }) => line.startsWith(delimiter))) this.doubt ??= 'ambiguous';
    return false;
  }

  /** Ends what was being read at a delimiter of an open multipart, and begins its next part. */
  private delimited(depth: number, from: number, to: number, isLast: boolean): void {
    while (this.inHeader) this.headerEnded(from);
    this.open.splice(depth + 1);
    // The line end before a delimiter belongs to it.
    this.bodiesEnd(this.open[depth]?.part, Math.max(this.bodyTo, this.current.bodyFrom));
    const multipart = this.open[depth] as OpenMultipart;
    if (isLast) {
      multipart.part.isClosed = true;
      this.open.pop();
      // What follows is its epilogue.
      this.current = multipart.part;
      this.inHeader = false;
    } else {
      const section = joined(multipart.part.section, ++multipart.children);
      this.current = this.begun(multipart.part, section, to, false);
    }
  }

  /** Ends the part that is being read and those that it is in, up to but without one of them. */
  private bodiesEnd(within: MimePart | undefined, at: number): void {
    for (let part: MimePart | undefined = this.current; part && part !== within; part = part.parent) part.bodyTo = at;
  }

  private begun(parent: MimePart | undefined, section: string, from: number, isMessage: boolean): MimePart {
    const part: MimePart = {
      ...{ section, parent, headerFrom: from, bodyFrom: from, bodyTo: from, header: '', isMessage, isClosed: false },
      ...{ type: 'text/plain', charset: undefined, boundary: undefined, encoding: '7bit' },
    };
    if (this.parts.length < MAX_PARTS) this.parts.push(part);
    else this.doubt ??= 'too-many-parts';
    this.inHeader = true;
    this.header = '';
    return part;
  }

  private headerLine(line: string | undefined, from: number, to: number, ending: number): void {
    if (line === '') {
      this.header += ending === 2 ? '\r\n' : '\n';
      this.headerEnded(to);
      return;
    }
    if (line === undefined || this.header.length + to - from > MAX_HEADER) {
      this.doubt ??= 'header-too-long';
      return;
    }
    this.header += line + ['', '\n', '\r\n'][ending];
  }

  private headerEnded(bodyFrom: number): void {
    const { current } = this;
    this.inHeader = false;
    current.header = this.header;
    this.header = '';
    // RFC 2046 §5.1.5: in a digest what says nothing is a message.
    const fallback =
      current.parent?.type === 'multipart/digest' && !current.isMessage ? 'message/rfc822' : 'text/plain';
    const { isAmbiguous, ...fields } = bodyFieldsOf(current.header, fallback);
    if (isAmbiguous) this.doubt ??= 'ambiguous';
    Object.assign(current, fields);
    current.bodyFrom = bodyFrom;
    this.bodyTo = bodyFrom;
    if (current.type.startsWith('multipart/')) this.multipartBegun(current);
    else if (isReadableMessage(current) && this.isShallow(current)) {
      if (current.isMessage) current.section = joined(current.section, 1);
      this.enclosed(current, bodyFrom);
    } else if (current.isMessage) current.section = joined(current.section, 1);
  }

  private multipartBegun(part: MimePart): void {
    if (part.boundary === undefined || part.boundary === '' || !this.isShallow(part)) return;
    this.open.push({ part, delimiter: `--${part.boundary}`, children: 0 });
  }

  /** The message that a part encloses has the section of that part. */
  private enclosed(part: MimePart, from: number): void {
    this.current = this.begun(part, part.section, from, true);
  }

  private isShallow(part: MimePart): boolean {
    let depth = 0;
    for (let above = part.parent; above && depth <= MAX_DEPTH; above = above.parent) depth++;
    if (depth > MAX_DEPTH) this.doubt ??= 'too-deep';
    return depth <= MAX_DEPTH;
  }
}

/** An enclosed message may have no encoding of its own (RFC 2046 §5.2.1); one that has one can't be looked into. */
function isReadableMessage({ type, encoding }: BodyFields): boolean {
  return (type === 'message/rfc822' || type === 'message/global') && ['7bit', '8bit', 'binary'].includes(encoding);
}

/** White space behind a delimiter (RFC 2046 §5.1.1). */
function withoutPadding(line: string): string {
  let end = line.length;
  while (end > 0 && (line[end - 1] === ' ' || line[end - 1] === '\t')) end--;
  return line.slice(0, end);
}

function joined(section: string, number: number): string {
  return section === '' ? String(number) : `${section}.${number}`;
}
