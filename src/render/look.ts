import sharp from 'sharp';
import { HASHED_SIDE, pictureHash, sharpnessOf } from '../core/repeats/picture-hash';
import { MAX_POINTS, metadataOf, OPTIONS, refused, turned } from './picture';
import type { Made } from './tasks';

/** Points of the longer side of the picture by which sharpness is told. */
const SHARPNESS_SIDE = 512;

/** How a picture looks: what tells it is nearly alike to another, and how sharp it is. */
export async function look(octets: Uint8Array): Promise<Made> {
  const metadata = await metadataOf(octets);
  if (!metadata || metadata.compression === 'hevc') return refused('unknown-format');
  const { width, height, orientation } = metadata;
  if (width * height > MAX_POINTS) return refused('too-many-points');
  try {
    const { data: grey, info } = await turned(sharp(octets, OPTIONS), orientation)
      .resize({ width: SHARPNESS_SIDE, height: SHARPNESS_SIDE, fit: 'inside', withoutEnlargement: true })
      .flatten()
      .greyscale()
      .raw()
      .toBuffer({ resolveWithObject: true });
    const raw = { width: info.width, height: info.height, channels: 1 } as const;
    const small = await sharp(grey, { raw })
      .resize({ width: HASHED_SIDE, height: HASHED_SIDE, fit: 'fill' })
      .greyscale()
      .raw()
      .toBuffer();
    const hash = pictureHash(small);
    return {
      kind: 'look',
      hash: hash ?? null,
      sharpness: sharpnessOf(grey, info.width, info.height),
      width,
      height,
    };
  } catch {
    return refused('damaged');
  }
}
