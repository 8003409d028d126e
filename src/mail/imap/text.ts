import type { ImapFlow, MessageStructureObject } from 'imapflow';
import { storable } from '../../core/text';

/** Octets of a body that are fetched for reading. */
const MOST_READ = 256 * 1024;

/** The first text part that is to be read: plain where there is one, else HTML without its tags. */
export async function messageText(client: ImapFlow, uid: number): Promise<string> {
  const message = await client.fetchOne(`${uid}`, { bodyStructure: true }, { uid: true });
  const structure = message ? message.bodyStructure : undefined;
  if (!structure) return '';
  const parts = leaves(structure);
  const part = parts.find(({ type }) => type === 'text/plain') ?? parts.find(({ type }) => type === 'text/html');
  if (!part) return '';
  const { content } = await client.download(`${uid}`, part.part ?? '1', { uid: true, maxBytes: MOST_READ });
  const chunks: Buffer[] = [];
  for await (const chunk of content) chunks.push(chunk as Buffer);
  const text = Buffer.concat(chunks).toString('utf8');
  return storable(part.type === 'text/html' ? withoutTags(text) : text);
}

function leaves(node: MessageStructureObject): MessageStructureObject[] {
  if (node.childNodes?.length && node.type !== 'message/rfc822') return node.childNodes.flatMap(leaves);
  return node.disposition === 'attachment' ? [] : [node];
}

/** For reading only: what it gives is shown as text, so nothing that slips through can run. */
function withoutTags(html: string): string {
  return html
    .replace(/<(style|script|head)\b[\s\S]*?<\/\1\s*>/gi, ' ')
    .replace(/<(br|\/p|\/div|\/tr|\/h\d|\/li)\b[^>]*>/gi, '\n')
    .replace(/<[^>]*>/g, ' ')
    .replace(/&nbsp;/g, ' ')
    .replace(/&lt;/g, '<')
    .replace(/&gt;/g, '>')
    .replace(/&quot;/g, '"')
    .replace(/&#39;/g, "'")
    .replace(/&amp;/g, '&')
    .replace(/[ \t]+/g, ' ')
    .replace(/\n\s*\n\s*/g, '\n\n')
    .trim();
}
