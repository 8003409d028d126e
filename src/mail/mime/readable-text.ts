import { fieldsOf } from '../../core/mime/fields';
import type { MimePart } from '../../core/mime/scanner';
import { storable } from '../../core/text';
import { openMessage, textOfPart } from './message-parts';

/** Encoded octets of a text that are read for looking at. */
const MOST_READ = 1024 * 1024;

/** What of a message is looked at. */
export interface ReadableMessage {
  /** The header as it stands. */
  header: string;
  /** The first part that is to be read: plain where there is one, else HTML without its tags; '' where there is none. */
  text: string;
}

/** @param read all octets of the message, in order; asked a second time for a large one. */
export async function readableMessage(read: () => AsyncIterable<Uint8Array>): Promise<ReadableMessage> {
  const { structure, bodies } = await openMessage(read);
  const [top] = structure.parts;
  const texts = structure.parts.filter((part) => isToRead(part) && messageOf(part) === top);
  const part = texts.find(({ type }) => type === 'text/plain') ?? texts.find(({ type }) => type === 'text/html');
  let text = '';
  if (part) for await (const { body } of bodies([{ part, most: MOST_READ }])) text = await textOfPart(part, body);
  return { header: storable(Buffer.from(top?.header ?? '', 'latin1').toString('utf8')), text: storable(text) };
}

function isToRead({ type, header }: MimePart): boolean {
  const disposition = fieldsOf(header).find(({ name }) => name === 'content-disposition')?.value ?? '';
  return type.startsWith('text/') && !/^attachment\b/i.test(disposition);
}

/** The message that a part belongs to: what an enclosed message says is not what this one says. */
function messageOf(part: MimePart): MimePart {
  let within = part;
  while (!within.isMessage && within.parent) within = within.parent;
  return within;
}
