import { useVirtualizer } from '@tanstack/react-virtual';
import { type ReactNode, useEffect, useId, useRef } from 'react';
import { text } from '../text';
import { useTouch } from '../useTouch';
import type { Marks } from './marking';
import { useCursor } from './useCursor';
import { useView } from './useView';

export interface Column<Row> {
  key: string;
  head: ReactNode;
  /** A track of CSS grid. */
  width: string;
  align?: 'right';
  /** Left out where there is little room. */
  minor?: boolean;
  cell(row: Row): ReactNode;
  /** Makes the head a button that orders by this column. */
  order?: string;
}

export interface Branch {
  /** From 1. */
  level: number;
  /** Undefined where it does not open. */
  open: boolean | undefined;
}

/** What rows are ordered by, and how to change it. */
export interface Ordered {
  by: string;
  descends: boolean;
  change(by: string): void;
}

interface GridProps<Row> {
  label: string;
  columns: Column<Row>[];
  /** Rows that can be scrolled to. */
  count: number;
  /** Of all that match, loaded or not. */
  total: number;
  /** Undefined where it is still on its way. */
  rowAt(index: number): Row | undefined;
  keyOf(row: Row): string | number;
  marks: Marks<Row>;
  ordered?: Ordered;
  /** Called when the end of what is loaded comes into view. */
  onEnd?(): void;
  /** Called with the first and last row in view. */
  onView?(first: number, last: number): void;
  onOpen(row: Row): void;
  /** Takes what is marked, else perhaps the row of the cursor. */
  onDelete(row: Row | undefined): void;
  /** Further keys of the list; whether one was meant. The row is the one at the cursor. */
  onKey?(key: string, row: Row | undefined): boolean;
  /** How deep a row stands and whether it is open, where rows open into others. */
  branch?(row: Row): Branch;
  empty: ReactNode;
}

/** Heights of a row in pixels, for a mouse and for a finger. */
const ROW_HEIGHT = 25;
const TOUCH_ROW_HEIGHT = 44;

/**
 * A list of any length: only the rows in view are in the page, which is why it is a grid by role and no table. On a phone its place has
 * no end: there its height is bounded by that of the window, else all rows would be in view. Keys are those of the platform: arrows,
 * Home and End move, Shift extends, Space marks, Ctrl or Cmd+A marks everything that matches, Enter opens, Delete goes to the plan. By
 * touch a tap marks, and a long press extends to there.
 */
export function Grid<Row>(props: GridProps<Row>) {
  const { label, columns, count, total, rowAt, keyOf, marks, ordered, onEnd, onView, onOpen, onDelete, empty } = props;
  const { onKey, branch } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const id = useId();
  const height = useTouch() ? TOUCH_ROW_HEIGHT : ROW_HEIGHT;
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: () => height,
    overscan: 5,
    scrollPaddingStart: height,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: rows are measured anew when their height changes
  useEffect(() => virtual.measure(), [height]);
  const shown = virtual.getVirtualItems();
  const firstShown = shown[0]?.index ?? 0;
  const lastShown = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (count > 0 && count < total && lastShown >= count - 40) onEnd?.();
  }, [count, total, lastShown, onEnd]);
  useView(onView, firstShown, lastShown);
  const pageRows = () => Math.max(1, Math.floor((scroller.current?.clientHeight ?? 300) / height) - 1);
  const { cursor, onKeyDown, onClick, extendTo } = useCursor({
    count,
    rowAt,
    marks,
    steps: () => ({ ArrowDown: 1, ArrowUp: -1, PageDown: pageRows(), PageUp: -pageRows() }),
    show: (index) => virtual.scrollToIndex(index),
    onOpen,
    onDelete,
    onKey,
  });

  const template = {
    '--tracks': columns.map(({ width }) => width).join(' '),
    '--few': columns
      .filter(({ minor }) => !minor)
      .map(({ width }) => width)
      .join(' '),
  };
  return (
    <div
      ref={scroller}
      role={branch ? 'treegrid' : 'grid'}
      aria-label={label}
      aria-rowcount={total + 1}
      aria-multiselectable="true"
      tabIndex={0}
      onKeyDown={onKeyDown}
      aria-activedescendant={count > 0 ? `${id}-${cursor}` : undefined}
      className="max-h-[85dvh] min-h-24 flex-1 overflow-y-auto"
      style={template as React.CSSProperties}
    >
      <div
        role="row"
        aria-rowindex={1}
        className="tracks sticky top-0 z-[1] border-b border-line bg-sheet pb-1 text-[11.5px] text-ink-2"
      >
        {columns.map((column) => (
          <Head key={column.key} column={column} ordered={ordered} />
        ))}
      </div>
      {count === 0 ? (
        <div role="row">
          <div role="gridcell" className="py-6 text-ink-2">
            {empty}
          </div>
        </div>
      ) : (
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {shown.map(({ index, start }) => {
            const row = rowAt(index);
            const marked = row !== undefined && marks.has(row);
            const place = row === undefined ? undefined : branch?.(row);
            return (
              <div
                key={row === undefined ? `at ${index}` : keyOf(row)}
                id={`${id}-${index}`}
                role="row"
                aria-rowindex={index + 2}
                aria-selected={marked}
                aria-level={place?.level}
                aria-expanded={place?.open}
                onClick={(event) => onClick(index, event)}
                onDoubleClick={() => row !== undefined && onOpen(row)}
                onContextMenu={(event) => extendTo(index, event)}
                className={`tracks absolute inset-x-0 cursor-default border-b border-hair select-none ${marked ? 'bg-tint' : ''} ${index === cursor ? 'cursor-row' : ''}`}
                style={{ height, transform: `translateY(${start}px)` }}
              >
                {columns.map((column) => (
                  <div
                    key={column.key}
                    role="gridcell"
                    className={`truncate ${column.align === 'right' ? 'text-right' : ''} ${column.minor ? 'minor' : ''}`}
                  >
                    {column.key === 'mark' ? <MarkBox marked={marked} /> : row === undefined ? '…' : column.cell(row)}
                  </div>
                ))}
              </div>
            );
          })}
        </div>
      )}
    </div>
  );
}

function Head<Row>({ column, ordered }: { column: Column<Row>; ordered: GridProps<Row>['ordered'] }) {
  const { key, head, align, minor, order } = column;
  const active = ordered !== undefined && order === ordered.by;
  const sort = active ? (ordered.descends ? 'descending' : 'ascending') : undefined;
  return (
    <div
      role="columnheader"
      aria-sort={sort}
      className={`truncate ${align === 'right' ? 'text-right' : ''} ${minor ? 'minor' : ''}`}
      key={key}
    >
      {order && ordered ? (
        <OrderButton order={order} ordered={ordered}>
          {head}
        </OrderButton>
      ) : (
        head
      )}
    </div>
  );
}

/** Orders what is shown by something; by the same again, the other way round. */
export function OrderButton({ order, ordered, children }: { order: string; ordered: Ordered; children: ReactNode }) {
  const active = order === ordered.by;
  return (
    <button type="button" onClick={() => ordered.change(order)} className={active ? 'font-semibold text-ink' : ''}>
      {children} {active ? (ordered.descends ? '↓' : '↑') : ''}
    </button>
  );
}

/** The mark of a row; the row itself says whether it is selected. */
function MarkBox({ marked }: { marked: boolean }) {
  return (
    <span
      aria-hidden="true"
      className={`inline-block size-[10px] border border-ink align-[-1px] ${marked ? 'bg-ink' : ''}`}
    />
  );
}

/** The column of the marks, the first of every grid. */
export function markColumn<Row>(): Column<Row> {
  return { key: 'mark', head: <span className="sr-only">{text.grid.mark}</span>, width: '22px', cell: () => null };
}

/** The head of a column that holds a length beside a figure. */
export function LengthHead() {
  return <span className="sr-only">{text.grid.length}</span>;
}
