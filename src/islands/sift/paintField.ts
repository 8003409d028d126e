import { SIZE_BINS } from '../../core/columns/axes';
import type { Narrowed } from '../../workers/protocol';
import type { Brush } from './brush';

/** Where the parts of the picture lie, in pixels of the page. */
export interface Layout {
  width: number;
  height: number;
  plot: { left: number; top: number; width: number; height: number };
}

export const MARGIN = { left: 58, right: 70, top: 34, bottom: 18 };

export function layoutOf(width: number, height: number): Layout {
  return {
    width,
    height,
    plot: {
      left: MARGIN.left,
      top: MARGIN.top,
      width: Math.max(1, width - MARGIN.left - MARGIN.right),
      height: Math.max(1, height - MARGIN.top - MARGIN.bottom),
    },
  };
}

export interface Paints {
  water: string;
  tint: string;
  hair: string;
}

/** Faintest and deepest a cell is painted; between them by the logarithm of its octets. */
const FAINTEST = 0.16;

/** Paints the field with its months above and its sizes at the right; what lies outside the brush is pale. */
export function paintField(
  context: CanvasRenderingContext2D,
  { plot, width, height }: Layout,
  { now, months }: Pick<Narrowed, 'now' | 'months'>,
  whole: Brush,
  brush: Brush | undefined,
  paints: Paints,
): void {
  context.clearRect(0, 0, width, height);
  const columns = months.length - 1;
  const rows = whole.top - whole.bottom;
  const cellWidth = plot.width / columns;
  const cellHeight = plot.height / rows;
  const gap = cellWidth > 4 ? 1 : 0;
  const inside = brush ?? whole;
  // A cell belongs to the side of the brush on which its middle lies.
  const inTime = (column: number) => column + 0.5 >= inside.left && column + 0.5 < inside.right;
  const inSize = (row: number) => row + 0.5 >= inside.bottom && row + 0.5 < inside.top;

  const { bytes } = now.field;
  let most = 1;
  for (let cell = 0; cell < bytes.length; cell++) most = Math.max(most, bytes[cell] as number);
  const scale = 1 / Math.log1p(most / 1024);
  context.fillStyle = paints.water;
  for (let column = 0; column < columns; column++) {
    const left = plot.left + column * cellWidth;
    const known = inTime(column);
    for (let row = whole.bottom; row < whole.top; row++) {
      const octets = bytes[column * SIZE_BINS + row] as number;
      if (octets <= 0) continue;
      const depth = FAINTEST + (1 - FAINTEST) * Math.log1p(octets / 1024) * scale;
      context.globalAlpha = known && inSize(row) ? depth : depth * 0.28;
      context.fillRect(
        left,
        plot.top + plot.height - (row - whole.bottom + 1) * cellHeight,
        Math.max(1, cellWidth - gap),
        Math.max(1, cellHeight - 1),
      );
    }
  }
  context.globalAlpha = 1;

  const mostOfMonth = maximum(now.months.bytes);
  const room = MARGIN.top - 8;
  for (let column = 0; column < columns; column++) {
    const tall = ((now.months.bytes[column] as number) / mostOfMonth) * room;
    context.fillStyle = inTime(column) ? paints.water : paints.tint;
    context.fillRect(plot.left + column * cellWidth, plot.top - 4 - tall, Math.max(1, cellWidth - gap), tall);
  }
  const mostOfSize = maximum(now.sizes.bytes);
  for (let row = whole.bottom; row < whole.top; row++) {
    const long = ((now.sizes.bytes[row] as number) / mostOfSize) * (MARGIN.right - 10);
    context.fillStyle = inSize(row) ? paints.water : paints.tint;
    context.fillRect(
      plot.left + plot.width + 6,
      plot.top + plot.height - (row - whole.bottom + 1) * cellHeight,
      long,
      Math.max(1, cellHeight - 1),
    );
  }
}

function maximum(values: Float64Array): number {
  let most = 1;
  for (const value of values) most = Math.max(most, value);
  return most;
}
