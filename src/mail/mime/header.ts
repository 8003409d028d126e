import { oneLine } from '../../core/text';
import { decodeWords } from './charset';

/** The fields fetched besides the envelope: of threads (RFC 5322), lists (2369, 2919) and machines (3834). */
export const HEADER_FIELDS = [
  'References',
  'List-Id',
  'List-Post',
  'List-Unsubscribe',
  'List-Unsubscribe-Post',
  'Precedence',
  'Auto-Submitted',
  'Feedback-ID',
];

const WANTED = new Map(
  HEADER_FIELDS.flatMap((name) => [name, name.toLowerCase()].map((key) => [key, name.toLowerCase()])),
);
const MAX_FIELD_LENGTH = 8_000;

/** What is kept of the fields. */
export interface HeaderFields {
  /** Message-IDs of References, oldest first. */
  references: string[];
  listId: string;
  /** The others, which tell bulk from personal, unfolded, by lower-case name. */
  bulkFields: Record<string, string>;
}

/** Reads a header of some fields, unfolded (RFC 5322 §2.2.3); of a repeated field the first counts. */
export function readHeader(header: string): HeaderFields {
  const bulkFields: Record<string, string> = {};
  let references: string | undefined;
  let listId: string | undefined;
  // A header in which none of the fields stands is an empty line.
  const unfolded = FOLD.test(header) ? header.replace(/\r?\n[ \t]+/g, ' ') : header;
  for (let at = 0; at < unfolded.length; ) {
    const lf = unfolded.indexOf('\n', at);
    const end = lf < 0 ? unfolded.length : lf;
    // Of a line, not of all that follows: a header may have no colon at all.
    const line = unfolded.slice(at, Math.min(end, at + MAX_FIELD_LENGTH));
    const colon = line.indexOf(':');
    if (colon > 0) {
      const name = canonical(line.slice(0, colon));
      const value = oneLine(line.slice(colon + 1));
      if (name === 'references') references ??= value;
      else if (name === 'list-id') listId ??= value;
      else if (name !== undefined) bulkFields[name] ??= value;
    }
    at = end + 1;
  }
  return { references: references?.match(/<[^<>\s]+>/g) ?? [], listId: listIdOf(listId ?? ''), bulkFields };
}

const FOLD = /\n[ \t]/;

/** The name of a field in lower case, where it is one of those that were asked for; as it is usually spelled it is known. */
function canonical(name: string): string | undefined {
  const usual = WANTED.get(name);
  return usual ?? WANTED.get(name.trim().toLowerCase());
}

/** The identifier between angle brackets, else the whole field, as old lists wrote it (RFC 2919 §3). */
function listIdOf(field: string): string {
  if (field === '') return '';
  const decoded = oneLine(decodeWords(field));
  return (/<([^<>]+)>\s*$/.exec(decoded)?.[1] ?? decoded).trim().toLowerCase().slice(0, 255);
}
