import { createHash } from 'node:crypto';
import { fileOf } from '../../core/files/file';
import { fieldsOf } from '../../core/mime/fields';
import type { MimePart } from '../../core/mime/scanner';
import { linksOfHtml } from '../html/links';
import { decodeCharset } from './charset';
import { decoded } from './decoded';
import { openMessage, textOfPart } from './message-parts';

/** What of a message another one may hold. */
export interface QuotableMessage {
  /** What a person reads: of alternatives (RFC 2046 §5.1.4) each by itself. None is empty. */
  texts: string[];
  /** Where links behind words lead. */
  links: string[];
  /** Those, and what stands in a text as an address. */
  addresses: Set<string>;
  /** SHA-256 of the decoded octets of each file, in hexadecimal digits. */
  files: string[];
}

/** What only the message itself proves, or can be read with: no quotation has it. */
const PROVEN = /^(multipart\/(signed|encrypted)|application\/(pgp-.*|(x-)?pkcs7-.*))$/;

/**
 * What another message would have to hold to say all that this one says.
 *
 * @param octets all of them.
 * @returns undefined where that can't be told: it is signed, encrypted, or its parts are not certain.
 */
export async function quotableMessage(octets: Buffer): Promise<QuotableMessage | undefined> {
  const { structure, bodies } = await openMessage(async function* () {
    yield octets;
  });
  const { parts, doubt } = structure;
  if (doubt !== undefined || parts.some(({ type, isClosed }) => PROVEN.test(type) || (isMultipart(type) && !isClosed)))
    return undefined;
  const found = { plain: [] as string[], html: [] as string[] };
  const message: QuotableMessage = { texts: [], links: [], addresses: new Set(), files: [] };
  const leaves = parts.filter((part) => !isMultipart(part.type) && !isInside(part));
  for await (const { part, body } of bodies(leaves.map((part) => ({ part, most: Number.POSITIVE_INFINITY })))) {
    if (isFile(part)) {
      message.files.push(await digestOf(part, body));
      continue;
    }
    if (part.type === 'text/html') {
      found.html.push(await textOfPart(part, body));
      message.links.push(...linksOfHtml(await markupOf(part, body)));
    } else found.plain.push(await textOfPart(part, body));
  }
  for (const text of [found.plain.join('\n'), found.html.join('\n')]) {
    if (text.trim() === '') continue;
    // Letters that could not be read can't be compared.
    if (text.includes('\ufffd')) return undefined;
    message.texts.push(text);
    for (const [address] of text.matchAll(/https?:\/\/[^\s<>"]+/g)) message.addresses.add(address);
  }
  for (const link of message.links) message.addresses.add(link);
  return message;
}

function isMultipart(type: string): boolean {
  return type.startsWith('multipart/');
}

/** Whether a part belongs to an enclosed message, which is a file as a whole. */
function isInside({ parent }: MimePart): boolean {
  for (let above = parent; above; above = above.parent) if (above.type.startsWith('message/')) return true;
  return false;
}

function isFile({ type, header, isMessage }: MimePart): boolean {
  if (type.startsWith('message/')) return true;
  const fields = fieldsOf(header);
  const value = (name: string) => fields.find((field) => field.name === name)?.value ?? '';
  const disposition = /^\s*([\w-]+)/.exec(value('content-disposition'))?.[1]?.toLowerCase() ?? null;
  const isNamed = /\b(file)?name\*?(\d+\*?)?\s*=/i.test(`${value('content-disposition')};${value('content-type')}`);
  return fileOf(type, isNamed && !isMessage ? 'named' : '', disposition) !== null;
}

async function digestOf({ encoding }: MimePart, body: Buffer): Promise<string> {
  const hash = createHash('sha256');
  for await (const piece of decoded(once(body), encoding)) hash.update(piece);
  return hash.digest('hex');
}

async function markupOf({ charset, encoding }: MimePart, body: Buffer): Promise<string> {
  const pieces: Uint8Array[] = [];
  for await (const piece of decoded(once(body), encoding)) pieces.push(piece);
  return decodeCharset(Buffer.concat(pieces), charset || 'utf-8');
}

async function* once(octets: Buffer): AsyncGenerator<Buffer> {
  yield octets;
}
