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

/** Colours as the style sheet writes them, `#rrggbb`. */
export interface Paints {
  water: string;
  tint: string;
  sheet: string;
}

/** Faintest and deepest a cell is painted; between them by the logarithm of its octets. */
const FAINTEST = 0.16;

/** What is left of a cell's depth outside the brush. */
const PALE = 0.28;

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

  const cells = cellsOf(now.field.bytes, whole, columns, paints.water, (column, row) => inTime(column) && inSize(row));
  context.imageSmoothingEnabled = false;
  context.drawImage(cells, plot.left, plot.top, plot.width, plot.height);
  context.fillStyle = paints.sheet;
  if (gap > 0)
    for (let column = 1; column < columns; column++)
      context.fillRect(Math.round(plot.left + column * cellWidth) - gap, plot.top, gap, plot.height);
  for (let row = 1; row < rows; row++)
    context.fillRect(plot.left, Math.round(plot.top + row * cellHeight) - 1, plot.width, 1);

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

let spare: HTMLCanvasElement | undefined;

/** The cells as a picture of one pixel each, to be drawn larger in one stroke: thousands of strokes take longer than a frame. */
function cellsOf(
  bytes: Float64Array,
  whole: Brush,
  columns: number,
  colour: string,
  isInside: (column: number, row: number) => boolean,
): HTMLCanvasElement {
  const rows = whole.top - whole.bottom;
  spare ??= document.createElement('canvas');
  spare.width = columns;
  spare.height = rows;
  const context = spare.getContext('2d') as CanvasRenderingContext2D;
  const picture = context.createImageData(columns, rows);
  const [red, green, blue] = [1, 3, 5].map((at) => Number.parseInt(colour.slice(at, at + 2), 16)) as [
    number,
    number,
    number,
  ];
  let most = 1;
  for (let cell = 0; cell < bytes.length; cell++) most = Math.max(most, bytes[cell] as number);
  const scale = 1 / Math.log1p(most / 1024);
  for (let column = 0; column < columns; column++) {
    for (let row = whole.bottom; row < whole.top; row++) {
      const octets = bytes[column * SIZE_BINS + row] as number;
      if (octets <= 0) continue;
      const depth = FAINTEST + (1 - FAINTEST) * Math.log1p(octets / 1024) * scale;
      const at = ((whole.top - 1 - row) * columns + column) * 4;
      picture.data[at] = red;
      picture.data[at + 1] = green;
      picture.data[at + 2] = blue;
      picture.data[at + 3] = 255 * (isInside(column, row) ? depth : depth * PALE);
    }
  }
  context.putImageData(picture, 0, 0);
  return spare;
}

function maximum(values: Float64Array): number {
  let most = 1;
  for (const value of values) most = Math.max(most, value);
  return most;
}
