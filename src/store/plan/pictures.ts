import * as clock from '../../clock/clock';
import { isNearlyAlike, neighboursOf, type PictureSeries, pictureSeries } from '../../core/repeats/picture-series';
import { includes, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import type { Queryable } from '../database';
import { guardedNow, keepingFiles } from '../index/guarded';
import { type Looks, readLooks } from '../index/pictures';
import { promisedFilesOfPlan } from './promised';
import { filesTakenNow, takenNow } from './taken';

/** Pictures nearly alike, by series. */
export interface Pictures {
  rows: Looks;
  /** Those with most octets beside the best first. */
  series: PictureSeries[];
  guarded: Ranges;
}

/** @param leaving placements that are counted elsewhere as what can go. */
export async function picturesOf(db: Queryable, account: Account, leaving?: Ranges): Promise<Pictures> {
  const rows = await readLooks(db, account);
  const guarded = keepingFiles(await guardedNow(db, account, clock.now()));
  const goes = await goingRows(db, account.id, rows);
  const series = pictureSeries(
    rows,
    isRepeated(rows, (row) => goes(row) || (leaving !== undefined && includes(leaving, rows.placement[row] as number))),
  );
  const bytesOf = ({ best, rows: members }: PictureSeries) =>
    members.reduce((sum, row) => sum + (row === best ? 0 : (rows.size[row] as number)), 0);
  series.sort((a, b) => bytesOf(b) - bytesOf(a) || a.best - b.best);
  return { rows, series, guarded };
}

/** Whether the plan, or a run that is not over, takes the picture of a row, alone or with its message. */
async function goingRows(
  db: Queryable,
  account: number,
  { file, placement }: Looks,
): Promise<(row: number) => boolean> {
  const taken = await takenNow(db, account);
  const takenOut = await filesTakenNow(db, account);
  return (row) => includes(taken, placement[row] as number) || includes(takenOut, file[row] as number);
}

/** Leaves out, besides what goes, all but the first picture with the same octets: the others are the same file mailed again. */
function isRepeated({ digest }: Looks, goes: (row: number) => boolean): (row: number) => boolean {
  const first = new Map<number, number>();
  for (const [row, number] of digest.entries()) if (!goes(row) && !first.has(number)) first.set(number, row);
  return (row) => first.get(digest[row] as number) !== row;
}

/** Pictures that lots of the plan must not take out, since none that is nearly alike would stay though they promised that. */
export async function brokenPictures(db: Queryable, account: Account): Promise<number[]> {
  const promised = await promisedFilesOfPlan(db, account, 'pictures');
  if (promised.length === 0) return [];
  const rows = await readLooks(db, account);
  const goes = await goingRows(db, account.id, rows);
  const rowOf = new Map(Array.from(rows.file, (file, row) => [file, row]));
  return promised.filter((file) => {
    const row = rowOf.get(file);
    if (row === undefined) return true;
    for (const other of neighboursOf(rows, row)) if (!goes(other) && isNearlyAlike(rows, row, other)) return false;
    return true;
  });
}
