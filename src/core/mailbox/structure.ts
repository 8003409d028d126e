import { oneLine } from '../text';

/** A part that a person would call a file. */
export interface MessageFile {
  /** '' where the part has no name. */
  name: string;
  type: string;
  /** Octets as transferred, so base64 counts with its third and its line ends (RFC 2045 §6.8). */
  size: number;
  disposition: 'attachment' | 'inline' | null;
}

/**
 * The file that a leaf of a message's structure is: one that has a name, is marked as attachment, or is not text to be
 * read; null where it is none. An enclosed message is a leaf.
 *
 * @param type media type and subtype, lower case, such as `image/jpeg`.
 * @param name decoded, '' where the part has none.
 * @param marked the disposition, lower case (RFC 2183).
 */
export function fileOf(type: string, name: string, marked: string | null, size: number): MessageFile | null {
  const disposition = marked === 'attachment' || marked === 'inline' ? marked : null;
  const isBodyText = type === 'text/plain' || type === 'text/html';
  const line = oneLine(name);
  return line !== '' || disposition === 'attachment' || !isBodyText ? { name: line, type, size, disposition } : null;
}
