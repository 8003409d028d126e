import { isNearlyAlike, type LookRows, neighboursOf, type PictureSeries } from '../../../core/repeats/picture-series';
import { invalid } from '../../problem';

/**
 * The rows of pictures that somebody chose.
 *
 * @throws Problem where one is in no series, or none nearly alike would stay beside it.
 */
export function chosenPictures(all: LookRows, series: readonly PictureSeries[], files: readonly number[]): number[] {
  const chosen = new Set(files);
  const rowOf = new Map(series.flatMap(({ rows: members }) => members.map((row) => [all.file[row] as number, row])));
  return Array.from(chosen, (file) => {
    const row = rowOf.get(file);
    if (row === undefined)
      throw invalid('One of these pictures is in no series of pictures nearly alike.', [
        { field: 'files', expected: 'pictures of series' },
      ]);
    const stays = [...neighboursOf(all, row)].some(
      (other) =>
        rowOf.has(all.file[other] as number) &&
        !chosen.has(all.file[other] as number) &&
        isNearlyAlike(all, row, other),
    );
    if (!stays)
      throw invalid('One picture of each series stays: keep one that is nearly alike.', [
        { field: 'files', expected: 'not all pictures of a series' },
      ]);
    return row;
  });
}
