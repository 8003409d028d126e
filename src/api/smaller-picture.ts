import * as v from 'valibot';
import { SHRUNK_LENGTHS, type ShrunkLength } from '../core/files/shrinking';

/** How a picture is to be made smaller, as a query says it. */
export const HowSmaller = v.object({
  longest: v.pipe(
    v.optional(v.picklist(SHRUNK_LENGTHS.map(String)), `${SHRUNK_LENGTHS[0]}`),
    v.transform((longest) => Number(longest) as ShrunkLength),
  ),
  place: v.optional(v.picklist(['keep', 'remove']), 'keep'),
});

export const SmallerPicture = v.object({
  before: v.number(),
  after: v.number(),
  width: v.number(),
  height: v.number(),
  /** In base64. */
  picture: v.string(),
});

export function shownSmaller({
  before,
  made: { octets, width, height },
}: {
  before: number;
  made: { octets: Uint8Array; width: number; height: number };
}) {
  return { before, after: octets.length, width, height, picture: Buffer.from(octets).toString('base64') };
}
