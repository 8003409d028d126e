import { oneLine } from '../text';

/** A body part as BODYSTRUCTURE tells it (RFC 9051 §7.5.2), parameters decoded. */
export interface BodyPart {
  /** Media type and subtype, lower case, such as `image/jpeg`. */
  type: string;
  parameters: Readonly<Record<string, string>>;
  disposition: string | null;
  dispositionParameters: Readonly<Record<string, string>>;
  /** Octets as transferred, so base64 counts with its third and its line ends (RFC 2045 §6.8). */
  size: number;
  children: readonly BodyPart[];
}

/** A part that a person would call a file. */
export interface MessageFile {
  /** '' where the part has no name. */
  name: string;
  type: string;
  /** Encoded octets. */
  size: number;
  disposition: 'attachment' | 'inline' | null;
}

/** The deepest nesting that is followed; what lies below a hostile tower of parts is not listed. */
const DEEPEST = 32;

/**
 * Lists the files of a message: every leaf that has a name, is marked as attachment, or is not text to be read.
 * An enclosed message counts as one file.
 */
export function filesOf(part: BodyPart, depth = 0): MessageFile[] {
  if (depth > DEEPEST) return [];
  if (part.type.startsWith('multipart/')) return part.children.flatMap((child) => filesOf(child, depth + 1));
  const name = oneLine(part.dispositionParameters.filename ?? part.parameters.name ?? '');
  const disposition = part.disposition === 'attachment' || part.disposition === 'inline' ? part.disposition : null;
  const isBodyText = part.type === 'text/plain' || part.type === 'text/html';
  const isFile = name !== '' || disposition === 'attachment' || !isBodyText;
  return isFile ? [{ name, type: part.type, size: part.size, disposition }] : [];
}
