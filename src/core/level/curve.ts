import type { Columns } from '../columns/columns';

/** The n largest messages hold so many octets. */
export interface CurvePoint {
  n: number;
  bytes: number;
}

/** Points between two powers of ten. */
const POINTS_A_DECADE = 12;

/**
 * The curve of the n largest messages, at points that are even on a scale of powers, and the first n that hold half.
 *
 * @param bySize rows from the largest on.
 */
export function largestCurve(
  columns: Columns,
  mask: Uint8Array,
  bySize: Uint32Array,
): { points: CurvePoint[]; half: CurvePoint; total: CurvePoint } {
  const total: CurvePoint = { n: 0, bytes: 0 };
  for (let row = 0; row < columns.length; row++) {
    if (mask[row] === 0) continue;
    total.n++;
    total.bytes += columns.size[row] as number;
  }
  const points: CurvePoint[] = [];
  let half: CurvePoint | undefined;
  let next = 1;
  let n = 0;
  let bytes = 0;
  for (let place = 0; place < bySize.length; place++) {
    const row = bySize[place] as number;
    if (mask[row] === 0) continue;
    n++;
    bytes += columns.size[row] as number;
    if (!half && bytes * 2 >= total.bytes) half = { n, bytes };
    if (n < next && n !== total.n) continue;
    points.push({ n, bytes });
    while (next <= n) next = Math.ceil(next * 10 ** (1 / POINTS_A_DECADE) + 1e-9);
  }
  return { points, half: half ?? total, total };
}
