import { parseAddress } from './address';

/** A mail that asks to stop, as a mailto: URI says it (RFC 6068). */
export interface LeavingMail {
  to: string;
  subject: string;
  body: string;
}

const MAX_URI = 4_000;
const MAX_SUBJECT = 500;
const MAX_BODY = 2_000;

/**
 * Reads a mailto: URI. Of its fields only subject and body are taken: RFC 6068 §4 names others unsafe, and what a sender wants
 * copied to others is none of ours.
 *
 * @returns undefined where it names not exactly one address, or can't be read.
 */
export function parseMailto(uri: string): LeavingMail | undefined {
  if (uri.length > MAX_URI || !/^mailto:/i.test(uri)) return undefined;
  const [path = '', query = ''] = splitOnce(uri.slice('mailto:'.length).replace(/#.*$/s, ''), '?');
  const fields = new Map<string, string>();
  const to = decoded(path);
  if (to === undefined) return undefined;
  for (const pair of query.split('&')) {
    if (pair === '') continue;
    const [name = '', value = ''] = splitOnce(pair, '=');
    const [key, text] = [decoded(name)?.toLowerCase(), decoded(value)];
    if (key === undefined || text === undefined) return undefined;
    if (!fields.has(key)) fields.set(key, text);
  }
  // RFC 6068 §2: a field `to` names recipients too.
  const address = parseAddress([to, fields.get('to') ?? ''].filter(Boolean).join(','));
  if (address === undefined) return undefined;
  const subject = (fields.get('subject') ?? '').replace(/[\r\n\0]+/g, ' ').slice(0, MAX_SUBJECT);
  const body = (fields.get('body') ?? '').replace(/\0/g, '').slice(0, MAX_BODY);
  return { to: address, subject, body };
}

function splitOnce(text: string, mark: string): string[] {
  const at = text.indexOf(mark);
  return at < 0 ? [text] : [text.slice(0, at), text.slice(at + mark.length)];
}

/** A + is itself in these URIs, unlike in forms (RFC 6068 §5). */
function decoded(text: string): string | undefined {
  try {
    return decodeURIComponent(text);
  } catch {
    return undefined;
  }
}
