import { type KeyboardEvent, type PointerEvent, useEffect, useLayoutEffect, useMemo, useRef, useState } from 'react';
import { heightOf, sizeAt } from '../../core/columns/axes';
import { OCTETS_IN } from '../../core/units';
import { useAccount, useFigures } from '../../ui/api/account';
import { replaced } from '../../ui/criteria/conditions';
import { text } from '../../ui/text';
import type { Narrowed } from '../../workers/protocol';
import { type Brush, brushOf, conditionsOfBrush, timeAt } from './brush';
import { layoutOf, type Paints, paintField } from './paintField';

const EDGES = ['left', 'right', 'bottom', 'top'] as const;
type Edge = (typeof EDGES)[number];
const EDGE_PLACE: Record<Edge, string> = {
  left: 'inset-y-0 -left-[3px] w-[5px] after:-left-[5px]',
  right: 'inset-y-0 -right-[3px] w-[5px] after:-left-[5px]',
  bottom: 'inset-x-0 -bottom-[3px] h-[5px] after:-top-[5px]',
  top: 'inset-x-0 -top-[3px] h-[5px] after:-top-[5px]',
};
/** What a finger sees of an edge. */
const HANDLE =
  "pointer-coarse:after:absolute pointer-coarse:after:inset-0 pointer-coarse:after:m-auto pointer-coarse:after:size-3.5 pointer-coarse:after:rounded-full pointer-coarse:after:border-2 pointer-coarse:after:border-ink pointer-coarse:after:bg-sheet pointer-coarse:after:content-['']";

/** How near to an edge a press takes hold of it, and how far a press moves before it is a drag; pixels. */
const NEAR = 7;
/** The same for a finger. */
const TOUCH_NEAR = 22;
const SLACK = 4;

/** How near to the border of the field a brush reaches beyond it; pixels. So one stroke from a corner takes it all. */
const SNAP = 12;

type Drag =
  | { kind: 'new'; x: number; y: number; axes: 'both' | 'time' | 'size' }
  | { kind: 'edges'; edges: Edge[] }
  | { kind: 'move'; x: number; y: number; from: Brush }
  /** Two fingers are two corners of the brush. */
  | { kind: 'corners' };

/**
 * Every message in a plane of age against size, brushed in both directions. While a hand drags, `onDraft` tells the
 * criteria at every move; `onChange` when it lets go.
 */
export function Field({
  narrowed,
  where,
  onDraft,
  onChange,
}: {
  narrowed: Narrowed;
  where: string;
  onDraft(where: string): void;
  onChange(where: string): void;
}) {
  const { settings } = useAccount();
  const { units, octets, month } = useFigures();
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState({ width: 0, height: 0 });
  const paints = usePaints();
  const drag = useRef<Drag | undefined>(undefined);
  /** Where fingers are, by pointer. */
  const fingers = useRef(new Map<number, { x: number; y: number }>());
  const layout = layoutOf(size.width, size.height);
  const { plot } = layout;
  const { months } = narrowed;
  const whole = useMemo(() => wholeOf(narrowed), [narrowed]);
  const years = useMemo(
    () => yearMarks(months, settings.timeZone, plot.width),
    [months, settings.timeZone, plot.width],
  );
  const context = { now: new Date(), timeZone: settings.timeZone, units, months };
  const brush = brushOf(where, whole, context);

  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setSize({ width: element.clientWidth, height: element.clientHeight }));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the brush is what `where` and the field say
  useLayoutEffect(() => {
    const painter = canvas.current?.getContext('2d');
    if (!canvas.current || !painter || size.width === 0) return;
    const ratio = window.devicePixelRatio;
    if (canvas.current.width !== Math.round(size.width * ratio)) canvas.current.width = Math.round(size.width * ratio);
    if (canvas.current.height !== Math.round(size.height * ratio))
      canvas.current.height = Math.round(size.height * ratio);
    painter.setTransform(ratio, 0, 0, ratio, 0, 0);
    paintField(painter, layoutOf(size.width, size.height), narrowed, whole, brush, paints);
  }, [narrowed, where, size, paints]);

  const columns = months.length - 1;
  const rows = whole.top - whole.bottom;
  const left = (place: number) => plot.left + (place / columns) * plot.width;
  const top = (place: number) => plot.top + plot.height - ((place - whole.bottom) / rows) * plot.height;
  const placeAt = (x: number, y: number) => ({
    x: snapped((x - plot.left) / plot.width, SNAP / plot.width) * columns,
    y: whole.bottom + snapped((plot.top + plot.height - y) / plot.height, SNAP / plot.height) * rows,
  });
  const said = (next: Brush | undefined) =>
    replaced(where, ['size', 'time'], next ? conditionsOfBrush(next, whole, context) : []);

  const pointOf = (event: PointerEvent) => {
    const bounds = (box.current as HTMLElement).getBoundingClientRect();
    return { x: event.clientX - bounds.left, y: event.clientY - bounds.top };
  };
  const onPointerDown = (event: PointerEvent<HTMLDivElement>) => {
    if (event.button !== 0) return;
    const { x, y } = pointOf(event);
    event.currentTarget.setPointerCapture(event.pointerId);
    const isTouch = event.pointerType === 'touch';
    if (isTouch) fingers.current.set(event.pointerId, { x, y });
    drag.current =
      fingers.current.size === 2
        ? { kind: 'corners' }
        : grip(brush, x, y, { left, top }, plot, isTouch ? TOUCH_NEAR : NEAR);
  };
  const betweenFingers = (): Brush | undefined => {
    const [one, other] = [...fingers.current.values()].map(({ x, y }) => placeAt(x, y));
    if (!one || !other) return brush;
    return {
      left: Math.min(one.x, other.x),
      right: Math.max(one.x, other.x),
      bottom: Math.min(one.y, other.y),
      top: Math.max(one.y, other.y),
    };
  };
  const draftAt = (x: number, y: number): string | undefined => {
    const { current } = drag;
    if (!current) return undefined;
    if (current.kind === 'corners') return said(betweenFingers());
    const place = placeAt(x, y);
    if (current.kind === 'edges') return said(withEdges(brush ?? whole, current.edges, place));
    if (current.kind === 'move') {
      const from = placeAt(current.x, current.y);
      return said(moved(current.from, place.x - from.x, place.y - from.y, whole));
    }
    if (Math.hypot(x - current.x, y - current.y) < SLACK) return undefined;
    const from = placeAt(current.x, current.y);
    return said({
      left: current.axes === 'size' ? (brush ?? whole).left : Math.min(from.x, place.x),
      right: current.axes === 'size' ? (brush ?? whole).right : Math.max(from.x, place.x),
      bottom: current.axes === 'time' ? (brush ?? whole).bottom : Math.min(from.y, place.y),
      top: current.axes === 'time' ? (brush ?? whole).top : Math.max(from.y, place.y),
    });
  };
  const onPointerMove = (event: PointerEvent) => {
    if (!drag.current) return;
    const { x, y } = pointOf(event);
    if (fingers.current.has(event.pointerId)) fingers.current.set(event.pointerId, { x, y });
    const draft = draftAt(x, y);
    if (draft !== undefined) onDraft(draft);
  };
  const onPointerUp = (event: PointerEvent) => {
    const { x, y } = pointOf(event);
    const draft = draftAt(x, y);
    drag.current = undefined;
    fingers.current.clear();
    onChange(draft ?? where);
  };
  const nudge = (edge: Edge, event: KeyboardEvent) => {
    const forward = event.key === 'ArrowRight' || event.key === 'ArrowUp' || event.key === 'PageUp';
    const back = event.key === 'ArrowLeft' || event.key === 'ArrowDown' || event.key === 'PageDown';
    if (event.key === 'Escape') onChange(said(undefined));
    if (!forward && !back) return;
    event.preventDefault();
    const far = event.shiftKey || event.key.startsWith('Page');
    const sideways = edge === 'left' || edge === 'right';
    const step = (forward ? 1 : -1) * (far ? (sideways ? 12 : 4) : 1);
    const now = brush ?? whole;
    const place = now[edge] + step;
    onChange(said(withEdges(now, [edge], { x: place, y: place })));
  };

  const shown = brush ?? whole;
  const describe: Record<Edge, string> = {
    left: month(new Date(timeAt(months, shown.left) * 1000).toISOString()),
    right: month(new Date(timeAt(months, shown.right) * 1000).toISOString()),
    bottom: octets(sizeAt(shown.bottom)),
    top: octets(sizeAt(shown.top)),
  };
  return (
    <section className="card flex h-[264px] shrink-0 flex-col" aria-label={text.sift.field}>
      <div className="flex items-baseline justify-between gap-3">
        <h2>{text.sift.field}</h2>
        <p className="note hidden sm:block">{text.sift.fieldNote}</p>
        <button type="button" className="link" onClick={() => onChange(corner(where, units))}>
          {text.sift.corner}
        </button>
      </div>
      <div
        ref={box}
        className="relative min-h-0 flex-1 cursor-crosshair touch-none select-none"
        data-field
        onPointerDown={onPointerDown}
        onPointerMove={onPointerMove}
        onPointerUp={onPointerUp}
        onPointerCancel={() => {
          drag.current = undefined;
          fingers.current.clear();
          onChange(where);
        }}
        onDoubleClick={() => onChange(said(undefined))}
      >
        <canvas ref={canvas} aria-hidden="true" className="absolute inset-0 size-full" />
        {sizeMarks(whole, units).map(({ octets: mark, name }) => (
          <span
            key={name}
            className="note pointer-events-none absolute -translate-y-1/2 whitespace-nowrap"
            style={{ top: top(heightOf(mark)), right: size.width - plot.left + 6 }}
          >
            {name}
          </span>
        ))}
        {years.map(({ place, year }) => (
          <span
            key={year}
            className="note pointer-events-none absolute -translate-x-1/2 whitespace-nowrap"
            style={{ left: left(place), top: plot.top + plot.height + 2 }}
          >
            {year}
          </span>
        ))}
        {size.width > 0 && (
          <div
            className={`pointer-events-none absolute border-2 ${brush ? 'border-ink' : 'border-transparent'}`}
            style={{
              left: left(shown.left),
              top: top(shown.top),
              width: left(shown.right) - left(shown.left),
              height: top(shown.bottom) - top(shown.top),
            }}
          >
            {EDGES.map((edge) => (
              <div
                key={edge}
                role="slider"
                tabIndex={0}
                className={`absolute ${EDGE_PLACE[edge]} ${brush ? HANDLE : ''}`}
                aria-label={text.sift.edges[edge]}
                aria-orientation={edge === 'left' || edge === 'right' ? 'horizontal' : 'vertical'}
                aria-valuemin={edge === 'left' || edge === 'right' ? 0 : whole.bottom}
                aria-valuemax={edge === 'left' || edge === 'right' ? columns : whole.top}
                aria-valuenow={Math.round(shown[edge] * 10) / 10}
                aria-valuetext={describe[edge]}
                onKeyDown={(event) => nudge(edge, event)}
              />
            ))}
          </div>
        )}
      </div>
    </section>
  );
}

/** A share of the field's width or height; what is near its border is on it. */
function snapped(share: number, near: number): number {
  if (share < near) return 0;
  return share > 1 - near ? 1 : share;
}

/** All of the field in which there is anything. */
function wholeOf({ all, months }: Narrowed): Brush {
  const { messages } = all.sizes;
  let bottom = 0;
  while (bottom < messages.length - 1 && messages[bottom] === 0) bottom++;
  let top = messages.length;
  while (top > bottom + 1 && messages[top - 1] === 0) top--;
  return { left: 0, right: months.length - 1, bottom, top };
}

/** What a press takes hold of: the edges near it, the inside of the brush, or nothing, which begins a new one. */
function grip(
  brush: Brush | undefined,
  x: number,
  y: number,
  at: { left(place: number): number; top(place: number): number },
  plot: { left: number; top: number; width: number; height: number },
  near: number,
): Drag {
  const axes = y < plot.top ? 'time' : x > plot.left + plot.width ? 'size' : 'both';
  if (!brush || axes !== 'both') return { kind: 'new', x, y, axes };
  const [left, right, top, bottom] = [
    at.left(brush.left),
    at.left(brush.right),
    at.top(brush.top),
    at.top(brush.bottom),
  ];
  const within = x > left - near && x < right + near && y > top - near && y < bottom + near;
  if (!within) return { kind: 'new', x, y, axes };
  const edges: Edge[] = [];
  if (Math.abs(x - left) < near) edges.push('left');
  else if (Math.abs(x - right) < near) edges.push('right');
  if (Math.abs(y - top) < near) edges.push('top');
  else if (Math.abs(y - bottom) < near) edges.push('bottom');
  return edges.length > 0 ? { kind: 'edges', edges } : { kind: 'move', x, y, from: brush };
}

/** The brush with some edges at a place, each kept on its side of the other. */
function withEdges(brush: Brush, edges: readonly Edge[], place: { x: number; y: number }): Brush {
  const next = { ...brush };
  for (const edge of edges) next[edge] = edge === 'left' || edge === 'right' ? place.x : place.y;
  return {
    left: Math.min(next.left, next.right),
    right: Math.max(next.left, next.right),
    bottom: Math.min(next.bottom, next.top),
    top: Math.max(next.bottom, next.top),
  };
}

/** The brush moved as a whole, as far as the field goes; an edge that was open moves too. */
function moved(brush: Brush, x: number, y: number, whole: Brush): Brush {
  const dx = Math.max(whole.left - brush.left, Math.min(whole.right - brush.right, x));
  const dy = Math.max(whole.bottom - brush.bottom, Math.min(whole.top - brush.top, y));
  return { left: brush.left + dx, right: brush.right + dx, bottom: brush.bottom + dy, top: brush.top + dy };
}

/** Big and old with one press. */
function corner(where: string, units: 'binary' | 'decimal'): string {
  return replaced(
    where,
    ['size', 'time'],
    [
      {
        kind: 'test',
        field: 'size',
        op: '>=',
        value: { type: 'octets', number: 5, unit: units === 'binary' ? 'MiB' : 'MB' },
      },
      { kind: 'test', field: 'age', op: '>', value: { type: 'age', number: 1, unit: 'y' } },
    ],
  );
}

/** Decades of the display unit that lie in the field. */
function sizeMarks(whole: Brush, units: 'binary' | 'decimal'): { octets: number; name: string }[] {
  const [kilo, mega] = units === 'binary' ? (['KiB', 'MiB'] as const) : (['kB', 'MB'] as const);
  return ([kilo, mega] as const)
    .flatMap((unit) => [1, 10, 100].map((number) => ({ octets: number * OCTETS_IN[unit], name: `${number} ${unit}` })))
    .filter(({ octets }) => heightOf(octets) > whole.bottom && heightOf(octets) < whole.top);
}

/** The middles of the years, as many as have room. */
function yearMarks(months: Float64Array, timeZone: string, width: number): { place: number; year: string }[] {
  const years = new Map<string, { first: number; count: number }>();
  const format = new Intl.DateTimeFormat('en', { timeZone, year: 'numeric' });
  for (let month = 0; month < months.length - 1; month++) {
    const middle = ((months[month] as number) + (months[month + 1] as number)) / 2;
    const year = format.format(middle * 1000);
    const known = years.get(year);
    if (known) known.count++;
    else years.set(year, { first: month, count: 1 });
  }
  const every = Math.max(1, Math.ceil((years.size * 40) / Math.max(1, width)));
  return [...years]
    .filter(([year, { count }]) => Number(year) % every === 0 && count >= 5)
    .map(([year, { first, count }]) => ({ year, place: first + count / 2 }));
}

/** The colours of the page, read again when it turns dark or light. */
function usePaints(): Paints {
  const read = (): Paints => {
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    return { water: colour('--water'), tint: colour('--tint'), sheet: colour('--sheet') };
  };
  const [paints, setPaints] = useState(read);
  useEffect(() => {
    const dark = window.matchMedia('(prefers-color-scheme: dark)');
    const turn = () => setPaints(read());
    dark.addEventListener('change', turn);
    return () => dark.removeEventListener('change', turn);
  });
  return paints;
}
