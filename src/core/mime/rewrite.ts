import { fieldsOf } from './fields';
import type { MimePart, MimeStructure } from './scanner';

/** Why a part of a message can't be replaced. */
export type RewriteRefusal =
  /** What a signature covers would change (RFC 1847, 8551). */
  | 'signed'
  | 'encrypted'
  /** Its place can't be told for certain: a boundary is missing or ambiguous, or it is not where the server says. */
  | 'malformed'
  /** It is another form of the text that the message says (RFC 2046 §5.1.4): something else would be shown in its place. */
  | 'alternative';

/** Octets of the new message: a span of the old one, or new ones. */
export type Piece = { from: number; to: number } | { octets: Uint8Array };

/** What stands in the place of a part: header, blank line, body. An octet a character, lines ended by CRLF but for the last. */
export interface Replacement {
  section: string;
  with: string;
}

/** The part of a section; undefined where the structure has none, or it is not certain. */
export function partOfSection({ parts, doubt }: MimeStructure, section: string): MimePart | undefined {
  return doubt ? undefined : parts.find((part) => part.section === section && !part.type.startsWith('multipart/'));
}

/** Whether a part can be replaced so that everything outside it stays as it is; why not, where it can't. */
export function refusalOf(structure: MimeStructure, section: string): RewriteRefusal | undefined {
  const part = partOfSection(structure, section);
  if (!part) return 'malformed';
  // The header of an enclosed message is in the body of the part that encloses it, which stays.
  if (part.parent?.type === 'multipart/alternative') return 'alternative';
  for (let each: MimePart | undefined = part; each; each = each.parent) {
    if (each.type === 'multipart/signed') return 'signed';
    if (each.type === 'multipart/encrypted' || /^application\/(x-)?pkcs7-mime$/.test(each.type)) return 'encrypted';
    if (each.type.startsWith('multipart/') && !each.isClosed) return 'malformed';
  }
  return undefined;
}

/**
 * Cuts a message into what stays and what stands in the place of parts. Everything outside them stays octet for octet. Of a
 * message that is nothing but the part, the fields of its header that are not about its body stay too.
 *
 * @param replacements of parts that have no refusal, and none of which is inside another.
 */
export function rewritten(structure: MimeStructure, replacements: readonly Replacement[]): Piece[] {
  const found = replacements.map((replacement) => ({
    part: partOfSection(structure, replacement.section) as MimePart,
    with: replacement.with,
  }));
  found.sort((a, b) => a.part.headerFrom - b.part.headerFrom);
  const pieces: Piece[] = [];
  let from = 0;
  for (const { part, with: text } of found) {
    if (part.headerFrom > from) pieces.push({ from, to: part.headerFrom });
    pieces.push(...(part.isMessage ? inPlaceOfBody(part, text) : [octetsOf(text)]));
    from = part.bodyTo;
  }
  if (structure.size > from) pieces.push({ from, to: structure.size });
  return pieces;
}

/** The header of a message, but for what it says of its body, and the new body. */
function inPlaceOfBody(part: MimePart, text: string): Piece[] {
  const blank = text.indexOf('\r\n\r\n');
  const pieces: Piece[] = [];
  let isSaid = false;
  for (const { name, from, to } of fieldsOf(part.header)) {
    const isBlank = /^\r?\n?$/.test(part.header.slice(from, to));
    if (!name.startsWith('content-') && !isBlank) {
      pieces.push({ from: part.headerFrom + from, to: part.headerFrom + to });
      continue;
    }
    if (!isSaid) pieces.push(octetsOf(`${text.slice(0, blank)}\r\n`));
    isSaid = true;
    if (isBlank) pieces.push({ from: part.headerFrom + from, to: part.headerFrom + to });
  }
  // A whole message ends with a line end; behind the body of an enclosed one stands that of its delimiter.
  pieces.push(octetsOf(`${text.slice(blank + 4)}${part.parent ? '' : '\r\n'}`));
  return pieces;
}

/** Octets of all pieces. */
export function sizeOf(pieces: readonly Piece[]): number {
  return pieces.reduce((sum, piece) => sum + ('octets' in piece ? piece.octets.length : piece.to - piece.from), 0);
}

function octetsOf(text: string): Piece {
  const octets = new Uint8Array(text.length);
  for (let at = 0; at < text.length; at++) octets[at] = text.charCodeAt(at);
  return { octets };
}
