import { mixed, Random } from '../message/random';
import { type Colour, END, encodeBlock, headOf, restart, START, segment } from './jpeg';
import { scene } from './scene';

/** Landscapes that photographs show. */
const SCENES = 12;
/** Octets of a block of a photograph, about. */
const OCTETS_OF_BLOCK = 15;
/** How strong the grain of a block can be, and how many blocks of each there are. */
const GRAINS = [0, 5, 10, 16, 24, 34] as const;
const VARIANTS = 4;
/** Octets of pictures that are kept for other photographs of about their size. */
const MAX_KEPT = 96 * 2 ** 20;
/** Between the sizes for which a picture is made. */
const STEP = 1.3;
/** By how much of a picture a hand moves. */
const MOVED = 0.03;
/** The fewest octets of a photograph. */
export const LEAST = 12_000;

/** By view and size, those that were used last at the end. */
const pictures = new Map<string, Buffer>();
/** By view and take. */
const smallPictures = new Map<string, Buffer>();
/** By colour, the blocks that were encoded: all variants of each grain, the weakest first. */
const blocksOf = new Map<number, Buffer[]>();

/**
 * A photograph as a camera writes it: JPEG with Exif (orientation, place, a small picture of itself). The same seed and size is
 * the same photograph.
 *
 * @param octets at least LEAST.
 * @param most octets of its beginning that are wanted; there may be more.
 * @param view the landscape, where it is not drawn from the seed.
 * @param take photographs of one landscape with other numbers show it a little moved.
 */
export function photograph(
  seed: number,
  octets: number,
  {
    most = octets,
    view: given,
    take = 0,
  }: { most?: number | undefined; view?: number | undefined; take?: number } = {},
): Buffer {
  const random = new Random(seed);
  const drawn = random.below(SCENES);
  const view = given ?? drawn;
  const isUpright = view % 4 === 3;
  const colourAt = asStored(moved(scene(view + 1), take), isUpright);
  const look = `${view} ${take}`;
  const smaller = smallPictures.get(look) ?? small(colourAt);
  smallPictures.set(look, smaller);
  const exif = segment(0xe1, exifOf(isUpright ? 6 : 1, smaller, random));
  const room = octets - START.length - exif.length - END.length;
  const wanted = Math.floor(STEP ** Math.floor(Math.log(room) / Math.log(STEP)));
  const key = `${look} ${wanted}`;
  const kept = pictures.get(key);
  const picture = kept ?? large(colourAt, view, wanted, most);
  if (kept || most >= octets) keep(key, picture);
  // What is left before the last marker is filled with ones, which readers pass by (T.81 §B.1.1.2).
  return Buffer.concat([START, exif, picture, Buffer.alloc(Math.max(0, room - picture.length), 0xff), END]);
}

function keep(key: string, picture: Buffer): void {
  pictures.delete(key);
  pictures.set(key, picture);
  let octets = [...pictures.values()].reduce((sum, { length }) => sum + length, 0);
  for (const [oldest, { length }] of pictures) {
    if (octets <= MAX_KEPT) return;
    pictures.delete(oldest);
    octets -= length;
  }
}

/** A scene as a hand that moved between two photographs sees it. */
function moved(colourAt: (u: number, v: number) => Colour, take: number): (u: number, v: number) => Colour {
  if (take === 0) return colourAt;
  const random = new Random(take);
  const [across, down, nearer] = [random.next() - 0.5, random.next() - 0.5, random.next()].map((by) => by * MOVED);
  return (u, v) =>
    colourAt(
      0.5 + (u - 0.5) * (1 - (nearer as number)) + (across as number),
      0.5 + (v - 0.5) * (1 - (nearer as number)) + (down as number),
    );
}

/** A camera that was held upright stores the picture lying, its first row what is at the right (Exif 2.32, orientation 6). */
function asStored(colourAt: (u: number, v: number) => Colour, isUpright: boolean): (u: number, v: number) => Colour {
  return isUpright ? (u, v) => colourAt(1 - v, u) : colourAt;
}

function small(colourAt: (u: number, v: number) => Colour): Buffer {
  const [width, height] = [160, 120];
  const blocks: Buffer[] = [];
  for (let y = 0; y < height; y += 8)
    for (let x = 0; x < width; x += 8)
      blocks.push(encodeBlock((dx, dy) => colourAt((x + dx) / width, (y + dy) / height)));
  const octets = blocks.reduce((sum, { length }) => sum + length + 2, 0);
  const out = Buffer.alloc(octets);
  return Buffer.concat([START, headOf(width, height), out.subarray(0, writeBlocks(out, blocks)), END]);
}

/** Blocks one behind the other, with a marker between two; gives the octets. */
function writeBlocks(out: Buffer, blocks: readonly Buffer[]): number {
  let at = 0;
  blocks.forEach((block, index) => {
    at += block.copy(out, at);
    if (index === blocks.length - 1) return;
    out[at++] = 0xff;
    out[at++] = restart(index);
  });
  return at;
}

/**
 * A picture of at most so many octets, without its last marker, with as much grain as they allow.
 *
 * @param most octets of its beginning that are wanted.
 */
function large(colourAt: (u: number, v: number) => Colour, view: number, octets: number, most: number): Buffer {
  const tall = Math.max(4, Math.floor(Math.sqrt(octets / OCTETS_OF_BLOCK / 12)));
  const [across, down] = [4 * tall, 3 * tall];
  const head = headOf(across * 8, down * 8);
  const blocks: Buffer[] = [];
  let left = octets - head.length;
  let grain = 0;
  for (let index = 0; index < across * down && octets - left < most; index++) {
    const colour = colourAt(((index % across) + 0.5) / across, (Math.floor(index / across) + 0.5) / down);
    const share = left / (across * down - index) - 2;
    const alike = blocksOfColour(colour);
    const variant = mixed(view, index) % VARIANTS;
    while (grain > 0 && lengthAt(alike, grain, variant) > share) grain--;
    while (grain < GRAINS.length - 1 && lengthAt(alike, grain + 1, variant) <= share) grain++;
    const block = alike[grain * VARIANTS + variant] as Buffer;
    blocks.push(block);
    left -= block.length + 2;
  }
  const out = Buffer.alloc(octets - head.length);
  return Buffer.concat([head, out.subarray(0, writeBlocks(out, blocks))]);
}

function lengthAt(alike: readonly Buffer[], grain: number, variant: number): number {
  return (alike[grain * VARIANTS + variant] as Buffer).length;
}

/** The blocks of a colour, its channels in steps of 8. */
function blocksOfColour(colour: Colour): Buffer[] {
  const [r, g, b] = [stepOf(colour[0]), stepOf(colour[1]), stepOf(colour[2])];
  const key = (((r << 5) | g) << 5) | b;
  const known = blocksOf.get(key);
  if (known) return known;
  const blocks = GRAINS.flatMap((strength) =>
    Array.from({ length: VARIANTS }, (_, variant) => {
      const noise = (x: number, y: number) =>
        ((mixed(key * VARIANTS + variant, y * 8 + x) % 2001) / 1000 - 1) * strength;
      return encodeBlock((x, y) => {
        const by = noise(x, y);
        return [r * 8 + by, g * 8 + by, b * 8 + by];
      });
    }),
  );
  blocksOf.set(key, blocks);
  return blocks;
}

function stepOf(channel: number): number {
  return Math.max(0, Math.min(31, Math.round(channel / 8)));
}

/** Exif (2.32): what a camera says of a picture, in the order of octets of little-endian machines. */
function exifOf(orientation: number, picture: Buffer, random: Random): Buffer {
  const SHORT = 3;
  const LONG = 4;
  const at = { first: 8, gps: 8 + 2 + 2 * 12 + 4, second: 0, picture: 0 };
  // Degrees, minutes and seconds of two coordinates, as fractions.
  const places = at.gps + 2 + 4 * 12 + 4;
  at.second = places + 48;
  at.picture = at.second + 2 + 3 * 12 + 4;
  const out = Buffer.alloc(at.picture);
  out.write('II', 0, 'latin1');
  out.writeUInt16LE(42, 2);
  out.writeUInt32LE(at.first, 4);
  const directory = (from: number, entries: readonly (readonly number[])[], next: number) => {
    out.writeUInt16LE(entries.length, from);
    entries.forEach(([tag = 0, type = 0, count = 0, value = 0], index) => {
      const place = from + 2 + index * 12;
      out.writeUInt16LE(tag, place);
      out.writeUInt16LE(type, place + 2);
      out.writeUInt32LE(count, place + 4);
      out.writeUInt32LE(value, place + 8);
    });
    out.writeUInt32LE(next, from + 2 + entries.length * 12);
  };
  directory(
    at.first,
    [
      [0x0112, SHORT, 1, orientation],
      [0x8825, LONG, 1, at.gps],
    ],
    at.second,
  );
  directory(
    at.gps,
    [
      [1, 2, 2, 'N'.charCodeAt(0)],
      [2, 5, 3, places],
      [3, 2, 2, 'E'.charCodeAt(0)],
      [4, 5, 3, places + 24],
    ],
    0,
  );
  const numbers = [54, random.below(60), random.below(60), 2, random.below(60), random.below(60)];
  numbers.forEach((number, index) => {
    out.writeUInt32LE(number, places + index * 8);
    out.writeUInt32LE(1, places + index * 8 + 4);
  });
  directory(
    at.second,
    [
      [0x0103, SHORT, 1, 6],
      [0x0201, LONG, 1, at.picture],
      [0x0202, LONG, 1, picture.length],
    ],
    0,
  );
  return Buffer.concat([Buffer.from('Exif\0\0', 'latin1'), out, picture]);
}
