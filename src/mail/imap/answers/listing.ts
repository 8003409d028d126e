import type { FolderStatus } from '../../server';
import type { Untagged } from '../channel/dialogue';
import { type Cursor, Malformed } from '../wire/cursor';

/** A folder as LIST tells of it (RFC 9051 §7.3.1). */
export interface ListedName {
  /** Lower case, such as `\noselect`. */
  attributes: ReadonlySet<string>;
  delimiter: string | null;
  /** As it goes on the wire, an octet a character. */
  wire: string;
}

/** Reads LIST, and STATUS where it comes with it (RFC 5819). */
export class ListingAnswer {
  readonly names = new Map<string, ListedName>();
  readonly statuses = new Map<string, FolderStatus>();

  take({ word, cursor }: Untagged): boolean {
    if (word === 'LIST') {
      const listed = readName(cursor);
      this.names.set(listed.wire, listed);
    } else if (word === 'STATUS') this.statuses.set(...readFolderStatus(cursor));
    else return false;
    return true;
  }
}

function readName(cursor: Cursor): ListedName {
  const attributes = new Set<string>();
  cursor.list();
  while (!cursor.closes()) attributes.add(cursor.octets().toLowerCase());
  const delimiter = cursor.string();
  if (delimiter !== null && delimiter.length !== 1) throw new Malformed('a delimiter');
  const wire = inboxOr(cursor.octets());
  // No string of the protocol holds it (RFC 9051 §9, CHAR8), so no command could name that folder.
  if (wire.includes('\0')) throw new Malformed('the name of a folder');
  return { attributes, delimiter, wire };
}

/** INBOX means the same in any letters (RFC 9051 §5.1). */
export function inboxOr(wire: string): string {
  return wire.toUpperCase() === 'INBOX' ? 'INBOX' : wire;
}

/** Reads STATUS: the folder, and its figures. */
export function readFolderStatus(cursor: Cursor): [wire: string, status: FolderStatus] {
  const wire = inboxOr(cursor.octets());
  const told = new Map<string, number>();
  cursor.list();
  while (!cursor.closes()) told.set(cursor.word(), cursor.number());
  const messages = told.get('MESSAGES');
  const uidValidity = told.get('UIDVALIDITY');
  if (messages === undefined || !uidValidity) throw new Malformed('figures of a folder');
  const status = {
    messages,
    uidValidity,
    bytes: told.get('SIZE') ?? null,
    uidNext: told.get('UIDNEXT') ?? null,
    // 0 is a folder that keeps none (RFC 7162 §3.1.7).
    modSeq: told.get('HIGHESTMODSEQ') || null,
  };
  const unseen = told.get('UNSEEN');
  return [wire, unseen === undefined ? status : { ...status, unseen }];
}
