import exif from 'exif-reader';
import sharp, { type Metadata, type Sharp } from 'sharp';
import type { Made, Refusal } from './tasks';

/** Points that are decoded; a telephone's largest photographs have fewer. */
export const MAX_POINTS = 120_000_000;
/** Points of a thumbnail and of a picture to look at: the box that they lie in. */
const THUMBNAIL = { width: 320, height: 240 };
const PICTURE = { width: 1280, height: 960 };
/** A small picture in a file is used from this many points along its longer side. */
const LEAST_THUMBNAIL = 120;
/** How far the shapes of a picture and of the small one inside it may differ. */
const SAME_SHAPE = 0.03;

// Whatever a file says it is, nothing but these decoders is reached. Vector formats are programs, and are not run.
sharp.block({ operation: ['VipsForeignLoad'] });
sharp.unblock({
  operation: [
    'VipsForeignLoadJpeg',
    'VipsForeignLoadPng',
    'VipsForeignLoadWebp',
    'VipsForeignLoadNsgif',
    'VipsForeignLoadTiff',
    'VipsForeignLoadHeif',
  ],
});
sharp.cache(false);
sharp.concurrency(1);

/** A thumbnail of a picture: from the small picture inside it where there is one that looks like it, else from the picture. */
export async function thumbnail(octets: Uint8Array, isWhole: boolean): Promise<Made> {
  const inside = await smallPicture(octets);
  if (inside) return inside;
  return isWhole ? scaled(octets, THUMBNAIL) : { kind: 'needs-all' };
}

/** A picture as large as a screen shows it. */
export function picture(octets: Uint8Array): Promise<Made> {
  return scaled(octets, PICTURE);
}

/** The small picture that a camera puts into its file (Exif 2.32 §4.5.5); undefined where there is none to rely on. */
async function smallPicture(octets: Uint8Array): Promise<Made | undefined> {
  const whole = await metadataOf(octets);
  if (whole?.format !== 'jpeg' || !whole.exif) return undefined;
  const inner = thumbnailIn(whole.exif);
  const small = inner && (await metadataOf(inner));
  if (small?.format !== 'jpeg' || Math.max(small.width, small.height) < LEAST_THUMBNAIL) return undefined;
  // Programs that cut a picture may leave the small one as it was, and some cameras add bars to it.
  if (Math.abs((small.width * whole.height) / (small.height * whole.width) - 1) > SAME_SHAPE) return undefined;
  const made = await encoded(turned(sharp(inner, OPTIONS), whole.orientation), THUMBNAIL);
  return made.kind === 'picture' ? made : undefined;
}

function thumbnailIn(block: Buffer): Buffer | undefined {
  try {
    const { Thumbnail } = exif(block);
    const from = Number(Thumbnail?.JPEGInterchangeFormat);
    const length = Number(Thumbnail?.JPEGInterchangeFormatLength);
    // Places count from the header that stands behind a mark of six octets.
    const start = block.subarray(0, 4).toString('latin1') === 'Exif' ? 6 : 0;
    if (!(from > 0) || !(length > 0) || start + from + length > block.length) return undefined;
    return block.subarray(start + from, start + from + length);
  } catch {
    return undefined;
  }
}

export const OPTIONS = { limitInputPixels: MAX_POINTS, failOn: 'none', sequentialRead: true, animated: false } as const;

export async function metadataOf(octets: Uint8Array): Promise<Metadata | undefined> {
  try {
    // No point is decoded for this.
    return await sharp(octets, { ...OPTIONS, limitInputPixels: false }).metadata();
  } catch {
    return undefined;
  }
}

async function scaled(octets: Uint8Array, box: { width: number; height: number }): Promise<Made> {
  const metadata = await metadataOf(octets);
  // Of HEIF the library decodes what is compressed as AV1 alone.
  if (!metadata || metadata.compression === 'hevc') return refused('unknown-format');
  if (metadata.width * metadata.height > MAX_POINTS) return refused('too-many-points');
  return encoded(turned(sharp(octets, OPTIONS), metadata.orientation), box);
}

/** As it was held when it was taken (Exif 2.32, tag 0x0112): a quarter of a turn at a time, perhaps mirrored. */
export function turned(image: Sharp, orientation = 1): Sharp {
  const { turn, mirror } = ORIENTATIONS[orientation] ?? { turn: 0, mirror: false };
  const upright = mirror ? image.flop() : image;
  return turn === 0 ? upright : upright.rotate(turn);
}

/** By tag: what is done to show it as it was held. The library mirrors before it turns. */
const ORIENTATIONS: Readonly<Record<number, { turn: number; mirror: boolean }>> = {
  2: { turn: 0, mirror: true },
  3: { turn: 180, mirror: false },
  4: { turn: 180, mirror: true },
  5: { turn: 270, mirror: true },
  6: { turn: 90, mirror: false },
  7: { turn: 90, mirror: true },
  8: { turn: 270, mirror: false },
};

/** New octets, of which none is the file's: no metadata goes along. */
async function encoded(image: Sharp, box: { width: number; height: number }): Promise<Made> {
  try {
    const { data, info } = await image
      .resize({ ...box, fit: 'inside', withoutEnlargement: true })
      .webp({ quality: 76, effort: 1 })
      .toBuffer({ resolveWithObject: true });
    return { kind: 'picture', octets: data, width: info.width, height: info.height };
  } catch (error) {
    return refused(/pixel limit/.test(String(error)) ? 'too-many-points' : 'damaged');
  }
}

export function refused(reason: Refusal): Made {
  return { kind: 'refused', reason };
}
