import exif from 'exif-reader';
import sharp, { type Metadata, type Sharp } from 'sharp';
import { MAX_POINTS, metadataOf, OPTIONS, refused } from './picture';
import type { Made } from './tasks';

/** Of 100; common practice for photographs on screens. */
const QUALITY = 80;

/**
 * A smaller picture of the same format, held the same way.
 *
 * @param longest points of its longer side, at most.
 * @param keepsPlace whether it says what the picture says: with the place where it was taken. Else the time alone stays, and
 *   the points are turned.
 * @param mostLeft the share of the octets that it may have.
 */
export async function shrunk(
  octets: Uint8Array,
  longest: number,
  keepsPlace: boolean,
  mostLeft: number,
): Promise<Made> {
  const metadata = await metadataOf(octets);
  if (!metadata || (metadata.pages ?? 1) > 1) return refused('unknown-format');
  if (metadata.width * metadata.height > MAX_POINTS) return refused('too-many-points');
  const image = sharp(octets, { ...OPTIONS, failOn: 'warning' }).resize({
    width: longest,
    height: longest,
    fit: 'inside',
    withoutEnlargement: true,
  });
  try {
    const kept = keepsPlace ? image.keepMetadata() : await withoutPlace(image, metadata);
    const encoded = inFormat(kept, metadata);
    if (!encoded) return refused('unknown-format');
    const { data, info } = await encoded.toBuffer({ resolveWithObject: true });
    if (data.length > octets.length * mostLeft) return refused('not-smaller');
    return { kind: 'picture', octets: data, width: info.width, height: info.height };
  } catch {
    // What can't be read to its end without a complaint is not replaced.
    return refused('damaged');
  }
}

/** The same format, so that name and media type stay true; undefined where it is none that is made smaller. */
function inFormat(image: Sharp, { format }: Metadata): Sharp | undefined {
  if (format === 'jpeg') return image.jpeg({ quality: QUALITY });
  if (format === 'png') return image.png({ compressionLevel: 9 });
  if (format === 'webp') return image.webp({ quality: QUALITY });
  return undefined;
}

/** The points turned as it was held, the colours as they were, and when it was taken (Exif 2.32, tag 0x9003); nothing else. */
async function withoutPlace(image: Sharp, { exif: block }: Metadata): Promise<Sharp> {
  // By way of a format that keeps neither Exif nor the small picture in it.
  const upright = await image.autoOrient().keepIccProfile().png({ compressionLevel: 0 }).toBuffer();
  const bare = sharp(upright).keepIccProfile();
  const taken = block && takenAt(block);
  return taken ? bare.withExif({ IFD2: { DateTimeOriginal: taken } }) : bare;
}

/** `2023:08:06 10:15:00`; undefined where it does not say. */
function takenAt(block: Buffer): string | undefined {
  try {
    const taken = exif(block).Photo?.DateTimeOriginal;
    return taken?.toISOString().slice(0, 19).replace('T', ' ').replaceAll('-', ':');
  } catch {
    return undefined;
  }
}
