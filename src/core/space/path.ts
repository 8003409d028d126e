/**
 * Paths in a file space as they go over the wire: segments parted by `/`, each octet that is not unreserved percent-encoded (RFC
 * 3986 §2.3), so that every name has one spelling (§6.2.2). Those of collections end in `/`.
 */

/** A path that no server may give: with dots that lead elsewhere, an octet of zero, or an encoding that is none. */
export class BadPath extends Error {}

/** Octets; longer ones are no path of a file that somebody made. */
const MOST = 8_192;
const UNRESERVED = /[A-Za-z0-9\-._~]/;
const encoder = new TextEncoder();
const decoder = new TextDecoder();

/**
 * The one spelling of a path as a server wrote it: absolute, or a whole address whose scheme and authority are left out.
 *
 * @throws BadPath
 */
export function normalPath(written: string): string {
  const path = written.replace(/^https?:\/\/[^/]*/i, '').replace(/[?#].*$/s, '');
  if (!path.startsWith('/') || path.length > MOST) throw new BadPath('A path is not absolute, or too long.');
  const normal = path.split('/').map(normalSegment).join('/');
  if (normal.includes('//')) throw new BadPath('A path has a segment without a name.');
  return normal;
}

/** Segments of nothing but unreserved signs, as nearly all are: they are spelled as they are. */
const PLAIN = /^[A-Za-z0-9\-._~]*$/;

function normalSegment(segment: string): string {
  const normal = PLAIN.test(segment) ? segment : encodedAnew(segment);
  if (normal === '.' || normal === '..') throw new BadPath('A path leads elsewhere.');
  return normal;
}

function encodedAnew(segment: string): string {
  let normal = '';
  for (let at = 0; at < segment.length; ) {
    const [octets, length] = octetsAt(segment, at);
    for (const octet of octets) normal += encoded(octet);
    at += length;
  }
  return normal;
}

/** The octets of a character, or of an encoding, and how many units of the text it takes. */
function octetsAt(segment: string, at: number): [Uint8Array, number] {
  const character = String.fromCodePoint(segment.codePointAt(at) as number);
  if (character !== '%') return [encoder.encode(character), character.length];
  const hex = segment.slice(at + 1, at + 3);
  if (!/^[0-9A-Fa-f]{2}$/.test(hex)) throw new BadPath('A path has an encoding that is none.');
  return [Uint8Array.of(Number.parseInt(hex, 16)), 3];
}

function encoded(octet: number): string {
  if (octet === 0) throw new BadPath('A path has an octet of zero.');
  const character = String.fromCharCode(octet);
  return UNRESERVED.test(character) ? character : `%${octet.toString(16).toUpperCase().padStart(2, '0')}`;
}

/** The path of a member of a collection, by its name. @throws BadPath where no member can have it. */
export function memberPath(collection: string, name: string, isCollection = false): string {
  const segment = Array.from(encoder.encode(name), encoded).join('');
  if (segment === '' || segment === '.' || segment === '..') throw new BadPath('A file can’t have this name.');
  return `${collection}${segment}${isCollection ? '/' : ''}`;
}

/** The path of a folder below a root, by the path that `shownPath` gives of it. @throws BadPath where none can have it. */
export function folderPath(root: string, shown: string): string {
  return shown
    .split('/')
    .filter(Boolean)
    .reduce((above, name) => memberPath(above, name, true), root);
}

/** The collection in which something lies; undefined of the uppermost. */
export function collectionOf(path: string): string | undefined {
  const end = path.lastIndexOf('/', path.length - 2);
  return end < 0 ? undefined : path.slice(0, end + 1);
}

/** The path as that of a collection. */
export function asCollection(path: string): string {
  return path.endsWith('/') ? path : `${path}/`;
}

/** The name for a person; what is no UTF-8 is shown by signs of replacement. */
export function nameOf(path: string): string {
  return decoded(path.replace(/\/$/, '').slice(path.replace(/\/$/, '').lastIndexOf('/') + 1));
}

/** The path below a root for a person, without a slash at either end. */
export function shownPath(path: string, root: string): string {
  return path.slice(root.length).split('/').filter(Boolean).map(decoded).join('/');
}

function decoded(segment: string): string {
  const octets: number[] = [];
  for (let at = 0; at < segment.length; at += segment[at] === '%' ? 3 : 1)
    octets.push(segment[at] === '%' ? Number.parseInt(segment.slice(at + 1, at + 3), 16) : segment.charCodeAt(at));
  return decoder.decode(Uint8Array.from(octets));
}
