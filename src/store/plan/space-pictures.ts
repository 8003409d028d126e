import { isNearlyAlike, neighboursOf, type PictureSeries, pictureSeries } from '../../core/repeats/picture-series';
import { includes } from '../../core/sets/ranges';
import type { Queryable } from '../database';
import { readSpaceLooks, type SpaceLooks } from '../space/pictures';
import { filesOfSpacesTaken } from './file-lots';
import { promisedOfLots } from './file-promises';

/** Pictures of file spaces nearly alike, by series. */
export interface SpaceSeries {
  rows: SpaceLooks;
  /** Those with most octets beside the best first. */
  series: PictureSeries[];
}

export async function spacePicturesOf(db: Queryable, account: number): Promise<SpaceSeries> {
  const rows = await readSpaceLooks(db, account);
  const taken = await filesOfSpacesTaken(db, account);
  const series = pictureSeries(rows, (row) => includes(taken, rows.file[row] as number));
  const bytesOf = ({ best, rows: members }: PictureSeries) =>
    members.reduce((sum, row) => sum + (row === best ? 0 : (rows.size[row] as number)), 0);
  series.sort((a, b) => bytesOf(b) - bytesOf(a) || a.best - b.best);
  return { rows, series };
}

/** For each of some pictures, those nearly alike that nothing takes away, as far as the index knows. */
export async function alikeThatStay(
  db: Queryable,
  account: number,
  files: Iterable<number>,
): Promise<Map<number, number[]>> {
  const rows = await readSpaceLooks(db, account);
  const taken = await filesOfSpacesTaken(db, account);
  const rowOf = new Map(Array.from(rows.file, (file, row) => [file, row]));
  const found = new Map<number, number[]>();
  for (const file of files) {
    const row = rowOf.get(file);
    const alike = row === undefined ? [] : [...neighboursOf(rows, row)].filter((one) => isNearlyAlike(rows, row, one));
    found.set(
      file,
      alike.map((one) => rows.file[one] as number).filter((one) => !includes(taken, one)),
    );
  }
  return found;
}

/** How many pictures lots of the plan would take though none nearly alike would stay, which they promised. */
export async function brokenSpacePictures(db: Queryable, account: number, lots: readonly number[]): Promise<number> {
  const promised = await promisedOfLots(db, account, 'pictures', lots);
  if (promised.length === 0) return 0;
  const stay = await alikeThatStay(db, account, promised);
  return promised.filter((file) => stay.get(file)?.length === 0).length;
}
