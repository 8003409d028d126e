import { fileOf, MAX_FILES, type MessageFile } from '../../../core/files/file';
import { NOTE_DESCRIPTION } from '../../../core/mime/note';
import { parameterOf } from '../../mime/parameter';
import type { Cursor } from '../wire/cursor';
import { readParameters } from './parameters';

/** The deepest nesting that is followed; what lies below a hostile tower of parts is not listed. */
const MAX_DEPTH = 32;

/**
 * Reads the files out of BODYSTRUCTURE (RFC 9051 §7.5.2): every leaf that a person would call one, those of enclosed messages
 * too, in the order in which they stand.
 *
 * @returns null for NIL.
 */
export function readFiles(cursor: Cursor): MessageFile[] | null {
  const files: MessageFile[] = [];
  /** How many files there were before each enclosed message that is being read. */
  const before: number[] = [];
  const isThere = readParts(cursor, {
    enters: () => before.push(files.length),
    part({ path, type, parameters, encoding, disposition, size, isMessage, isNote }) {
      const first = isMessage ? (before.pop() as number) : files.length;
      if (isNote || files.length >= MAX_FILES) return;
      const name = parameterOf(disposition.parameters, 'filename') || parameterOf(parameters, 'name');
      const file = fileOf(type, name, disposition.kind);
      if (!file) return;
      const part = path.join('.');
      const enclosed = before.length > 0;
      files.splice(first, 0, { ...file, type, size, part, encoding, inside: files.length - first, enclosed });
    },
  });
  return isThere ? files : null;
}

/** A part of a structure that is no multipart. */
export interface Part {
  /** Where it is, such as 1, 2: its section is `1.2`. Good until the visit returns. */
  path: readonly number[];
  /** Media type and subtype, lower case; text/plain where it can't be read (RFC 2045 §5.2). */
  type: string;
  parameters: Map<string, string> | null;
  /** Content-Transfer-Encoding, lower case. */
  encoding: string;
  /** Octets as transferred. */
  size: number;
  disposition: Disposition;
  /** Whether it is an enclosed message whose own parts were visited before it. */
  isMessage: boolean;
  /** Whether it stands in the place of a file that we took out. */
  isNote: boolean;
}

/** Who is told of the parts of a structure. */
export interface PartVisitor {
  /** Before the parts of an enclosed message. */
  enters?(): void;
  /** A leaf, or an enclosed message after its own parts. */
  part(part: Part): void;
}

/** Reads BODYSTRUCTURE and visits its parts; false for NIL. */
export function readParts(cursor: Cursor, visitor: PartVisitor): boolean {
  if (!cursor.isList()) {
    cursor.skip();
    return false;
  }
  readBody(cursor, visitor, []);
  return true;
}

/** The body of a message: the only part of one that is no multipart is its first (RFC 9051 §6.4.5.1). */
function readBody(cursor: Cursor, visitor: PartVisitor, path: number[]): void {
  if (path.length > MAX_DEPTH) {
    cursor.skip();
    return;
  }
  cursor.opens();
  if (cursor.isList()) readMultipart(cursor, visitor, path);
  else {
    path.push(1);
    readLeaf(cursor, visitor, path);
    path.pop();
  }
}

function readMultipart(cursor: Cursor, visitor: PartVisitor, path: number[]): void {
  path.push(0);
  while (cursor.isList()) {
    path[path.length - 1] = (path.at(-1) as number) + 1;
    readPart(cursor, visitor, path);
  }
  path.pop();
  // The subtype, and extensions that say nothing of files.
  cursor.leave();
}

function readPart(cursor: Cursor, visitor: PartVisitor, path: number[]): void {
  if (path.length > MAX_DEPTH) {
    cursor.skip();
    return;
  }
  cursor.opens();
  if (cursor.isList()) readMultipart(cursor, visitor, path);
  else readLeaf(cursor, visitor, path);
}

function readLeaf(cursor: Cursor, visitor: PartVisitor, path: number[]): void {
  const main = cursor.string()?.toLowerCase() ?? '';
  const sub = cursor.string()?.toLowerCase() ?? '';
  const type = `${main}/${sub}`;
  const parameters = readParameters(cursor);
  // Content-ID.
  cursor.skip();
  const isNote = cursor.string() === NOTE_DESCRIPTION;
  const encoding = cursor.string()?.toLowerCase() ?? '';
  const size = readSize(cursor);
  const isMessage = readFieldsOf(cursor, type, visitor, path);
  const disposition = readDisposition(cursor);
  if (main === 'multipart') return;
  const isRead = main !== '' && sub !== '';
  visitor.part({
    path,
    type: isRead ? type : 'text/plain',
    parameters,
    encoding,
    size,
    disposition,
    isMessage,
    isNote,
  });
}

/** Some servers write NIL, or a string, for the octets of a part. */
function readSize(cursor: Cursor): number {
  const size = Number(cursor.string() ?? 0);
  return Number.isSafeInteger(size) && size > 0 ? size : 0;
}

/**
 * Reads the fields of a type before the extensions: lines of a text; envelope, structure and lines of an enclosed message,
 * whose own parts are visited.
 *
 * @returns whether there was an enclosed message.
 */
function readFieldsOf(cursor: Cursor, type: string, visitor: PartVisitor, path: number[]): boolean {
  const isMessage = type === 'message/rfc822' || type === 'message/global';
  if (!isMessage) {
    if (type.startsWith('text/') && !cursor.isEnd()) cursor.skip();
    return false;
  }
  // Some servers treat one as any other leaf.
  if (cursor.isEnd()) return false;
  cursor.skip();
  const isRead = cursor.isList();
  if (isRead) {
    visitor.enters?.();
    readBody(cursor, visitor, path);
  } else if (!cursor.isEnd()) cursor.skip();
  if (!cursor.isEnd()) cursor.skip();
  return isRead;
}

export interface Disposition {
  kind: string | null;
  parameters: Map<string, string> | null;
}

const NO_DISPOSITION: Disposition = { kind: null, parameters: null };

/** Reads the disposition after the digest, and passes by the other extensions to the end of the part. */
function readDisposition(cursor: Cursor): Disposition {
  // Some servers leave the number of lines out: then the digest was passed by already, and the disposition is a list.
  if (!cursor.isEnd() && !cursor.isList()) cursor.skip();
  if (!cursor.opens()) {
    cursor.leave();
    return NO_DISPOSITION;
  }
  const kind = cursor.string()?.toLowerCase() ?? null;
  const parameters = cursor.isEnd() ? null : readParameters(cursor);
  cursor.leave();
  cursor.leave();
  return { kind, parameters };
}
