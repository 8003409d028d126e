import { oneLine } from '../text';

/** A part that a person would call a file. */
export interface MessageFile {
  /** '' where the part has no name. */
  name: string;
  type: string;
  /** Octets as transferred, so base64 counts with its third and its line ends (RFC 2045 §6.8). */
  size: number;
  disposition: 'attachment' | 'inline' | null;
  /** Its section of the message, such as `2.1` (RFC 9051 §6.4.5.1); '' where it was indexed before sections were. */
  part: string;
  /** Content-Transfer-Encoding, lower case. */
  encoding: string;
  /** How many of the files behind it in the list are inside it: those of an enclosed message. */
  inside: number;
  /** Whether it is inside an enclosed message. */
  enclosed: boolean;
}

/** Parts that prove or steer other parts, and hold nothing of their own (RFC 1847, 3156, 8551). */
const SIGNATURES = /^application\/(pgp-signature|pgp-encrypted|(x-)?pkcs7-signature)$/;

/**
 * What of a leaf of a message's structure makes it a file: it has a name, is marked as attachment, or is not text to be read.
 * An enclosed message is a file, and what is attached to it is too. A signature is none.
 *
 * @param type media type and subtype, lower case, such as `image/jpeg`.
 * @param name decoded, '' where the part has none.
 * @param marked the disposition, lower case (RFC 2183).
 * @returns null where it is no file.
 */
export function fileOf(
  type: string,
  name: string,
  marked: string | null,
): Pick<MessageFile, 'name' | 'disposition'> | null {
  const disposition = marked === 'attachment' || marked === 'inline' ? marked : null;
  const isBodyText = type === 'text/plain' || type === 'text/html';
  const line = oneLine(name);
  if (SIGNATURES.test(type)) return null;
  return line !== '' || disposition === 'attachment' || !isBodyText ? { name: line, disposition } : null;
}

/**
 * Octets that count for each file by itself: of an enclosed message without the files inside it, which count for themselves.
 * So sums over any files count nothing twice.
 */
export function ownSizes(files: readonly Pick<MessageFile, 'size' | 'inside'>[]): number[] {
  return files.map(({ size, inside }, at) => {
    let own = size;
    // What lies directly inside; what lies deeper is in that.
    for (let inner = at + 1; inner <= at + inside; ) {
      const { size: part = 0, inside: deeper = 0 } = files[inner] ?? {};
      own -= part;
      inner += deeper + 1;
    }
    return Math.max(0, own);
  });
}

/** Files of one message that have a number of their own. */
const FILES_OF_MESSAGE = 512;
/** Files of one message that are listed. */
export const MAX_FILES = 500;

/** The place, among the files of a message, of the whole message as a file. */
export const WHOLE_MESSAGE = 511;

/** The number of a file in its account: rising with its message and its place among that message's files. Below 2^53. */
export function fileId(message: number, ordinal: number): number {
  return message * FILES_OF_MESSAGE + ordinal;
}

/** The message of a file, and its place among that message's files. */
export function messageOfFile(id: number): { message: number; ordinal: number } {
  const message = Math.floor(id / FILES_OF_MESSAGE);
  return { message, ordinal: id - message * FILES_OF_MESSAGE };
}

/**
 * Octets of a file when decoded, as far as its encoded size tells. Base64 in lines of 76 characters and CRLF is what mail
 * programs write (RFC 2045 §6.8); its padding can't be known.
 */
export function decodedSize(encoding: string, size: number): number {
  return encoding === 'base64' ? Math.floor((size * 76 * 3) / (78 * 4)) : size;
}
