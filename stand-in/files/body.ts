import { base64Body, binaryBody } from '../message/content';
import type { LeafBody } from '../message/entity';
import { LEAST as LEAST_DOCUMENT, pdf } from './document';
import { LEAST as LEAST_PHOTOGRAPH, photograph } from './photograph';

/** A file to attach: its octets follow from type, seed and size. */
export interface Attachment {
  name: string;
  type: string;
  seed: number;
  /** Decoded octets. */
  octets: number;
  /** Of a photograph: what it shows, and which one of several of that it is. */
  view?: number;
  take?: number;
}

/**
 * The body of a file, in base64. Photographs and documents are what they say they are, so that they can be looked at; all else,
 * and what is too small for that, is drawn from the seed.
 *
 * @param lines that documents are written with.
 */
export function fileBody({ type, seed, octets, view, take = 0 }: Attachment, lines: readonly string[]): LeafBody {
  if (type === 'image/jpeg' && octets >= LEAST_PHOTOGRAPH)
    return base64Body(octets, (most) => photograph(seed, octets, { most, view, take }));
  if (type === 'application/pdf' && octets >= LEAST_DOCUMENT) return base64Body(octets, () => pdf(seed, lines, octets));
  return binaryBody(seed, octets);
}

/** The octets of a file. */
export function fileOctets(file: Attachment, lines: readonly string[]): Buffer {
  return Buffer.from(fileBody(file, lines).write().toString('latin1'), 'base64');
}
