import type { Groups } from './candidates';
import { bitsApart, NEARLY_ALIKE } from './picture-hash';

/** Seconds between which pictures of one author belong to one occasion. Common practice, no source. */
export const OCCASION_SECONDS = 12 * 3_600;
/** Pictures that one is compared with on either side of it, by time. */
const MOST_NEIGHBOURS = 500;
/** How much sharper a picture is that is told to be so. */
const SHARPER = 1.05;

/** Pictures, a row each, by author, then time, then file. */
export interface PictureRows {
  file: Float64Array;
  /** Rows with the same number have the same author. */
  author: Int32Array;
  /** Seconds since 1970. */
  taken: Float64Array;
}

/** Pictures with how they look. */
export interface LookRows extends PictureRows {
  /** Halves of the hash. */
  high: Int32Array;
  low: Int32Array;
  sharpness: Float64Array;
  points: Float64Array;
  /** Encoded octets. */
  size: Float64Array;
}

/** Why a picture is proposed as the one to keep. */
export type BestPicture = 'sharpest' | 'largest' | 'first';

/** Pictures nearly alike. */
export interface PictureSeries {
  /** The row of the one that is proposed to stay, and why. */
  best: number;
  why: BestPicture;
  /** All of them, by time. */
  rows: number[];
}

/** Whether two pictures are of one author and occasion. */
function isOneOccasion({ author, taken }: PictureRows, one: number, other: number): boolean {
  return (
    author[one] === author[other] && Math.abs((taken[one] as number) - (taken[other] as number)) <= OCCASION_SECONDS
  );
}

/** Whether two pictures are nearly alike. */
export function isNearlyAlike(rows: LookRows, one: number, other: number): boolean {
  const { high, low } = rows;
  return (
    isOneOccasion(rows, one, other) &&
    bitsApart(high[one] as number, low[one] as number, high[other] as number, low[other] as number) <= NEARLY_ALIKE
  );
}

/** The rows near a row, by time: of its author and occasion. */
export function* neighboursOf(rows: PictureRows, row: number): Generator<number> {
  for (let at = row - 1; at >= Math.max(0, row - MOST_NEIGHBOURS) && isOneOccasion(rows, at, row); at--) yield at;
  const end = Math.min(rows.file.length - 1, row + MOST_NEIGHBOURS);
  for (let at = row + 1; at <= end && isOneOccasion(rows, at, row); at++) yield at;
}

/** Pictures of an author that follow each other within the time of an occasion: only these are worth looking at. */
export function occasionsOf(rows: PictureRows): Groups {
  const found: number[] = [];
  const starts = [0];
  for (let from = 0; from < rows.file.length; ) {
    let until = from + 1;
    while (until < rows.file.length && isOneOccasion(rows, until - 1, until)) until++;
    if (until - from > 1) {
      for (let row = from; row < until; row++) found.push(row);
      starts.push(found.length);
    }
    from = until;
  }
  return { rows: Uint32Array.from(found), starts: Uint32Array.from(starts) };
}

/**
 * Series of pictures nearly alike. The sharpest picture gathers those that are nearly alike to it, then the sharpest of those that are
 * left does; so each is nearly alike to the one that is proposed to stay.
 *
 * @param isLeft whether a picture is left out: it goes already, or is another with the same octets.
 */
export function pictureSeries(rows: LookRows, isLeft: (row: number) => boolean): PictureSeries[] {
  const { length } = rows.file;
  const better = (a: number, b: number) =>
    (rows.sharpness[b] as number) - (rows.sharpness[a] as number) ||
    (rows.points[b] as number) - (rows.points[a] as number) ||
    a - b;
  const joined = new Uint8Array(length);
  const found: PictureSeries[] = [];
  for (const best of Array.from(rows.file.keys()).sort(better)) {
    if (joined[best] || isLeft(best)) continue;
    const members = [best];
    for (const row of neighboursOf(rows, best))
      if (!joined[row] && !isLeft(row) && isNearlyAlike(rows, best, row)) members.push(row);
    if (members.length < 2) continue;
    for (const row of members) joined[row] = 1;
    found.push({ best, why: whyBest(rows, best, members), rows: members.sort((a, b) => a - b) });
  }
  return found;
}

function whyBest({ sharpness, points }: LookRows, best: number, members: readonly number[]): BestPicture {
  const others = members.filter((row) => row !== best);
  if (others.every((row) => (sharpness[best] as number) >= (sharpness[row] as number) * SHARPER)) return 'sharpest';
  if (others.every((row) => (points[best] as number) > (points[row] as number))) return 'largest';
  return others.some((row) => (sharpness[row] as number) < (sharpness[best] as number)) ? 'sharpest' : 'first';
}
