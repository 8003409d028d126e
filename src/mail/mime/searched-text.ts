import { fieldsOf } from '../../core/mime/fields';
import type { MimePart } from '../../core/mime/scanner';
import { decodeWords } from './charset';
import { openMessage, textOfPart, type WantedPart } from './message-parts';
import { inUtf8 } from './message-record';

/** Encoded octets of the texts of one message that are read: a text of that length is no letter any more. */
const MOST_TEXT = 4 * 2 ** 20;

/** Fields of a message that a person reads. */
const READ_FIELDS: ReadonlySet<string> = new Set([
  ...['subject', 'from', 'sender', 'reply-to', 'to', 'cc', 'bcc', 'organization', 'comments', 'keywords', 'list-id'],
]);

/** The text of a message as it is searched. */
export interface SearchedText {
  text: string;
  /** Whether it is all of it: no text was longer than is read, and none could not be found for certain. */
  isWhole: boolean;
}

/**
 * What a person reads of a message: the fields of its header and of those of enclosed messages, and all parts that are text,
 * decoded; HTML without its tags.
 *
 * @param read all octets of the message, in order; asked a second time for a large one.
 */
export async function searchedText(read: () => AsyncIterable<Uint8Array>): Promise<SearchedText> {
  const { structure, bodies } = await openMessage(read);
  const { parts, doubt } = structure;
  const found = parts.filter(({ isMessage }) => isMessage).flatMap(fieldsRead);
  let left = MOST_TEXT;
  let isWhole = doubt === undefined;
  const wanted: WantedPart[] = [];
  for (const part of parts) {
    if (!part.type.startsWith('text/')) continue;
    const octets = part.bodyTo - part.bodyFrom;
    isWhole &&= octets <= left;
    wanted.push({ part, most: left });
    left = Math.max(0, left - octets);
  }
  for await (const { part, body } of bodies(wanted)) found.push(await textOfPart(part, body));
  return { text: found.join('\n'), isWhole };
}

function fieldsRead({ header }: MimePart): string[] {
  return fieldsOf(header)
    .filter(({ name }) => READ_FIELDS.has(name))
    .map(({ value }) => decodeWords(inUtf8(value)));
}
