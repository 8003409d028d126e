import { fieldsOf } from './fields';
import type { MimePart } from './scanner';

/** Fields that tell of octets which are others now (RFC 1864; RFC 9110 §8.6, which some programs write into mail). */
const OF_OCTETS = new Set(['content-md5', 'content-length', 'content-transfer-encoding']);

/**
 * The part that stands in the place of a picture: its own header, but for what it says of the octets, and the octets of the
 * smaller picture in base64. An octet a character, without a line end behind it.
 *
 * @param octets of the smaller picture, of the same media type.
 * @param sha256 of the original, in hexadecimal: by this its copy is found.
 */
export function smallerPart(part: MimePart, octets: Uint8Array, sha256: string): string {
  const fields = fieldsOf(part.header).filter(({ from, to }) => part.header.slice(from, to).trim() !== '');
  // Of a message that is nothing but the picture, the fields that are not about its body stay where they are.
  const ofPart = fields.filter(({ name }) => !part.isMessage || name.startsWith('content-'));
  const kept = ofPart
    .filter(({ name }) => !OF_OCTETS.has(name))
    .map(({ name, from, to }) => {
      const field = part.header.slice(from, to).replace(/\r?\n$/, '');
      return name === 'content-disposition' ? withSize(field, octets.length) : field;
    });
  const isDescribed = fields.some(({ name }) => name === 'content-description');
  return [
    ...kept,
    'Content-Transfer-Encoding: base64',
    ...(isDescribed ? [] : [`Content-Description: Made smaller; SHA-256 of the original:\r\n ${sha256}`]),
    '',
    base64Lines(octets),
  ].join('\r\n');
}

/** With the number of octets that there are now (RFC 2183 §2.7), where a field says one. */
function withSize(field: string, octets: number): string {
  return field.replace(/(;\s*size\s*=\s*)("?)\d{1,15}\2(?=\s*(;|$))/i, `$1$2${octets}$2`);
}

/** Base64 in lines of 76 characters (RFC 2045 §6.8). */
function base64Lines(octets: Uint8Array): string {
  const lines: string[] = [];
  for (let at = 0; at < octets.length; at += 57) lines.push(btoa(String.fromCharCode(...octets.subarray(at, at + 57))));
  return lines.join('\r\n');
}
