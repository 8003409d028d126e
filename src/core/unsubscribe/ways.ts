import { type LeavingMail, parseMailto } from './mailto';

/** How the header of a message says that one stops getting such mail. */
export interface Ways {
  /** Where one POST does it (RFC 8058); null where the header does not say so. */
  oneClick: string | null;
  /** The mail that does it; null where none does, or none that may be sent. */
  mail: LeavingMail | null;
  /** Pages that a person opens. */
  pages: string[];
}

/** URIs of one field that are looked at, and octets of one of them. */
const MAX_URIS = 10;
const MAX_URI = 4_000;

/**
 * Reads List-Unsubscribe (RFC 2369 §2 and §3.2) and List-Unsubscribe-Post (RFC 8058 §3.1), unfolded. Of several URIs of one kind
 * the first counts, as the sender prefers it. What is not in angle brackets is no URI.
 */
export function waysOf(listUnsubscribe: string, listUnsubscribePost: string): Ways {
  const uris = urisOf(listUnsubscribe);
  const pages = uris
    .filter((uri) => /^https?:\/\//i.test(uri))
    .map(webAddress)
    .filter((uri) => uri !== undefined);
  const secure = pages.find((uri) => uri.startsWith('https:')) ?? null;
  const isOneClick = listUnsubscribePost.replace(/\s+/g, '').toLowerCase() === 'list-unsubscribe=one-click';
  return {
    oneClick: isOneClick ? secure : null,
    mail: uris.map(parseMailto).find((mail) => mail !== undefined) ?? null,
    pages,
  };
}

/** What stands in angle brackets; comments between them are left out, and white space within (RFC 2369 §2). */
function urisOf(field: string): string[] {
  const uris: string[] = [];
  let depth = 0;
  for (let at = 0; at < field.length && uris.length < MAX_URIS; at++) {
    const sign = field[at];
    if (sign === '\\' && depth > 0) at++;
    else if (sign === '(') depth++;
    else if (sign === ')') depth = Math.max(0, depth - 1);
    else if (sign === '<' && depth === 0) {
      const end = field.indexOf('>', at);
      if (end < 0) break;
      const uri = field.slice(at + 1, end).replace(/\s+/g, '');
      if (uri !== '' && uri.length <= MAX_URI) uris.push(uri);
      at = end;
    }
  }
  return uris;
}

/** A web address without a name and password of its own; undefined where it can't be read. */
function webAddress(uri: string): string | undefined {
  if (!URL.canParse(uri)) return undefined;
  const url = new URL(uri);
  return url.username === '' && url.password === '' && url.hostname !== '' ? url.href : undefined;
}
