import { Problem } from './problem';

/** The first and the last octet that are wanted of an answer. */
export interface ByteRange {
  first: number;
  last: number;
}

/**
 * The one range of octets that a request wants (RFC 9110 §14.2): undefined where it wants all, or several, which may be
 * answered with all.
 *
 * @param size of the whole, octets.
 * @param etag of the whole: a range of something else is no use (§13.1.5).
 * @throws Problem 416 where no octet of it is there.
 */
export function byteRange({ headers }: Request, size: number, etag: string): ByteRange | undefined {
  const match = /^bytes=(\d{0,15})-(\d{0,15})$/.exec(headers.get('range')?.trim() ?? '');
  const [, from = '', to = ''] = match ?? [];
  if (!match || (from === '' && to === '')) return undefined;
  const condition = headers.get('if-range');
  if (condition !== null && condition !== etag) return undefined;
  const first = from === '' ? Math.max(0, size - Number(to)) : Number(from);
  const last = from === '' || to === '' ? size - 1 : Math.min(Number(to), size - 1);
  if (from !== '' && to !== '' && Number(to) < Number(from)) return undefined;
  if (first > last)
    throw new Problem(416, 'no-such-range', 'No such range', `There are ${size} octets.`, undefined, {
      'content-range': `bytes */${size}`,
    });
  return { first, last };
}
