import { fileOf, type MessageFile } from '../../../core/mailbox/structure';
import type { Cursor } from '../wire/cursor';
import { parameterOf, readParameters } from './parameters';

/** The deepest nesting that is followed; what lies below a hostile tower of parts is not listed. */
const MAX_DEPTH = 32;
const MAX_FILES = 500;

/**
 * Reads the files out of BODYSTRUCTURE (RFC 9051 §7.5.2): every leaf that a person would call one. An enclosed message is
 * one file, so its inside is passed by.
 *
 * @returns null for NIL.
 */
export function readFiles(cursor: Cursor): MessageFile[] | null {
  const files: MessageFile[] = [];
  const isThere = readParts(cursor, ({ type, parameters, disposition, size }) => {
    if (files.length >= MAX_FILES) return;
    const name = parameterOf(disposition.parameters, 'filename') || parameterOf(parameters, 'name');
    const file = fileOf(type, name, disposition.kind, size);
    if (file) files.push(file);
  });
  return isThere ? files : null;
}

/** A leaf of a structure. */
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
}

/** Reads BODYSTRUCTURE and visits its leaves; false for NIL. */
export function readParts(cursor: Cursor, visit: (part: Part) => void): boolean {
  if (!cursor.isList()) {
    cursor.skip();
    return false;
  }
  readPart(cursor, visit, []);
  return true;
}

function readPart(cursor: Cursor, visit: (part: Part) => void, path: number[]): void {
  if (path.length > MAX_DEPTH) {
    cursor.skip();
    return;
  }
  cursor.opens();
  if (cursor.isList()) {
    path.push(0);
    while (cursor.isList()) {
      path[path.length - 1] = (path.at(-1) as number) + 1;
      readPart(cursor, visit, path);
    }
    path.pop();
    // The subtype, and extensions that say nothing of files.
    cursor.leave();
    return;
  }
  const main = cursor.string()?.toLowerCase() ?? '';
  const sub = cursor.string()?.toLowerCase() ?? '';
  const type = `${main}/${sub}`;
  const parameters = readParameters(cursor);
  // Content-ID and description.
  cursor.skip();
  cursor.skip();
  const encoding = cursor.string()?.toLowerCase() ?? '';
  const size = readSize(cursor);
  passFieldsOf(cursor, type);
  const disposition = readDisposition(cursor);
  if (main === 'multipart') return;
  const isRead = main !== '' && sub !== '';
  visit({ path, type: isRead ? type : 'text/plain', parameters, encoding, size, disposition });
}

/** Some servers write NIL, or a string, for the octets of a part. */
function readSize(cursor: Cursor): number {
  const size = Number(cursor.string() ?? 0);
  return Number.isSafeInteger(size) && size > 0 ? size : 0;
}

/** Passes by the fields of a type before the extensions: lines of a text; envelope, structure and lines of a message. */
function passFieldsOf(cursor: Cursor, type: string): void {
  const fields = type === 'message/rfc822' ? 3 : type.startsWith('text/') ? 1 : 0;
  for (let passed = 0; passed < fields && !cursor.isEnd(); passed++) cursor.skip();
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
