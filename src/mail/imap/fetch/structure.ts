import { fileOf, type MessageFile } from '../../../core/mailbox/structure';
import type { Cursor } from './cursor';
import { parameterOf, readParameters } from './parameters';

/** The deepest nesting that is followed; what lies below a hostile tower of parts is not listed. */
const DEEPEST = 32;
const MOST_FILES = 500;

/**
 * Reads the files out of BODYSTRUCTURE (RFC 9051 §7.5.2): every leaf that a person would call one. An enclosed message is
 * one file, so its inside is passed by.
 *
 * @returns null for NIL.
 */
export function readFiles(cursor: Cursor): MessageFile[] | null {
  if (!cursor.isList()) {
    cursor.skip();
    return null;
  }
  const files: MessageFile[] = [];
  readPart(cursor, files, 0);
  return files;
}

function readPart(cursor: Cursor, files: MessageFile[], depth: number): void {
  if (depth > DEEPEST) {
    cursor.skip();
    return;
  }
  cursor.opens();
  if (cursor.isList()) {
    while (cursor.isList()) readPart(cursor, files, depth + 1);
    // The subtype, and extensions that say nothing of files.
    cursor.leave();
    return;
  }
  const main = cursor.string()?.toLowerCase() ?? '';
  const type = `${main}/${cursor.string()?.toLowerCase() ?? ''}`;
  const parameters = readParameters(cursor);
  // Content-ID, description and encoding.
  cursor.skip();
  cursor.skip();
  cursor.skip();
  const size = readSize(cursor);
  passFieldsOf(cursor, type);
  const disposition = readDisposition(cursor);
  if (files.length >= MOST_FILES || main === 'multipart') return;
  const name = parameterOf(disposition.parameters, 'filename') || parameterOf(parameters, 'name');
  const file = fileOf(type, name, disposition.kind, size);
  if (file) files.push(file);
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

interface Disposition {
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
