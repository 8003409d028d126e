import { Chart, Filler, LinearScale, LineController, LineElement, PointElement } from 'chart.js';
import { useEffect, useMemo, useRef } from 'react';
import type { Forecast } from '../../contract/types';
import { OCTETS_IN } from '../../core/units';
import { useAccount, useFigures } from '../../ui/api/account';
import { firstFull, MONTH_MS } from '../../ui/api/forecast';
import { octetScale } from '../../ui/charts/scale';
import { Heads } from '../../ui/Heads';
import { text } from '../../ui/text';
import { count, monthAndYear } from '../../ui/text/format';

Chart.register(LineController, LineElement, PointElement, LinearScale, Filler);

/** Months of the course that the table for screen readers tells. */
const EVERY = 6;

/** A point of the chart: an instant in milliseconds, and octets. */
interface Point {
  x: number;
  y: number;
}

/** How full the mailbox was, by what of it is still there, and how full it will be, with a range. */
export function Course({ forecast }: { forecast: Forecast }) {
  const { octets, day, units } = useFigures();
  const { settings } = useAccount();
  const canvas = useRef<HTMLCanvasElement>(null);
  const { growth, limit } = forecast;
  const { past, parts } = useMemo(() => pointsOf(forecast), [forecast]);
  const full = firstFull(forecast);
  const title = headline(forecast, (instant) => day(instant));
  useEffect(() => {
    if (!canvas.current || !growth) return;
    const style = getComputedStyle(canvas.current);
    const color = (name: string) => style.getPropertyValue(name).trim();
    const base = { parsing: false as const, pointRadius: 0, borderWidth: 2 };
    const top = Math.max(limit ?? 0, ...parts.likely.map(({ y }) => y)) * 1.08;
    const scale = octetScale(top, units);
    const from = past[0]?.x ?? 0;
    const until = parts.likely.at(-1)?.x ?? 0;
    const chart = new Chart(canvas.current, {
      type: 'line',
      data: {
        datasets: [
          { ...base, data: past, borderColor: color('--water') },
          { ...base, data: parts.likely, borderColor: color('--water'), borderDash: [5, 4] },
          { ...base, data: parts.low, borderWidth: 0 },
          { ...base, data: parts.high, borderWidth: 0, fill: 2, backgroundColor: `${color('--water')}33` },
          { ...base, data: parts.changed, borderColor: color('--ink'), borderDash: [2, 3] },
          ...(limit === null
            ? []
            : [
                {
                  ...base,
                  data: [
                    { x: from, y: limit },
                    { x: until, y: limit },
                  ],
                  borderColor: color('--ink'),
                  borderWidth: 1.5,
                },
              ]),
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        events: [],
        scales: {
          x: {
            type: 'linear',
            min: from,
            max: until,
            grid: { display: false },
            afterBuildTicks: (axis) => {
              axis.ticks = yearsBetween(from, until).map((value) => ({ value }));
            },
            ticks: { color: color('--ink-2'), maxRotation: 0, callback: (value) => new Date(value).getUTCFullYear() },
          },
          y: {
            min: 0,
            max: top,
            grid: { color: color('--hair') },
            afterBuildTicks: (axis) => {
              axis.ticks = scale.marks.map((mark) => ({ value: mark * OCTETS_IN[scale.unit] }));
            },
            ticks: {
              color: color('--ink-2'),
              callback: (value) => `${count(Number(value) / OCTETS_IN[scale.unit])} ${scale.unit}`,
            },
          },
        },
      },
    });
    return () => chart.destroy();
  }, [growth, limit, past, parts, units]);
  return (
    <section className="card" aria-labelledby="course">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="course" className="font-semibold">
          {title}
        </h2>
        {growth && <p className="note">{text.upkeep.basis(growth.months, octets(growth.bytes.mean))}</p>}
      </div>
      {growth ? (
        <>
          <div className="h-[190px]">
            <canvas ref={canvas} role="img" aria-label={title} />
          </div>
          {full && !isFull(forecast) && (
            <p className="note mt-1">
              {text.upkeep.range(
                full.earliest && monthAndYear(full.earliest, settings.timeZone),
                full.latest && monthAndYear(full.latest, settings.timeZone),
              )}
            </p>
          )}
          <div className="sr-only">
            <table>
              <caption>{title}</caption>
              <Heads
                of={[
                  [text.upkeep.month, ''],
                  [text.upkeep.low, 'number'],
                  [text.upkeep.likely, 'number'],
                  [text.upkeep.high, 'number'],
                  ...(parts.changed.length > 0 ? [[text.upkeep.withStanding, 'number'] as const] : []),
                ]}
              />
              <tbody>
                {parts.likely.map((point, at) =>
                  at % EVERY === 0 ? (
                    <tr key={point.x}>
                      <td>{monthAndYear(new Date(point.x).toISOString(), settings.timeZone)}</td>
                      <td>{octets(parts.low[at]?.y ?? 0)}</td>
                      <td>{octets(point.y)}</td>
                      <td>{octets(parts.high[at]?.y ?? 0)}</td>
                      {parts.changed[at] && <td>{octets(parts.changed[at].y)}</td>}
                    </tr>
                  ) : null,
                )}
              </tbody>
            </table>
          </div>
        </>
      ) : (
        <p>{forecast.complete ? text.upkeep.tooFew(count(forecast.months.length)) : text.upkeep.scanning}</p>
      )}
    </section>
  );
}

function headline(forecast: Forecast, day: (instant: string) => string): string {
  const full = firstFull(forecast);
  if (!forecast.growth) return text.upkeep.unknown;
  if (isFull(forecast)) return text.upkeep.fullNow;
  if (full?.likely)
    return (full.what === 'full' ? text.upkeep.fullOn : text.upkeep.fullByMessages)(
      text.upkeep.inTime(Math.max(0, Date.parse(full.likely) - Date.parse(forecast.at)) / MONTH_MS),
      day(full.likely),
    );
  return forecast.dates.length === 0 ? text.upkeep.noLimit : text.upkeep.notSoon;
}

function isFull({ limit, used }: Forecast): boolean {
  return limit !== null && used >= limit;
}

function pointsOf({ at, used, months, course, changed }: Forecast): {
  past: Point[];
  parts: Record<'low' | 'likely' | 'high' | 'changed', Point[]>;
} {
  const now = Date.parse(at);
  const past: Point[] = [{ x: now, y: used }];
  // Back from now: at the beginning of a month what came in since was not there yet.
  let y = used;
  for (const month of [...months].reverse()) {
    y -= month.bytes;
    past.unshift({ x: Date.parse(month.from), y: Math.max(0, y) });
  }
  const part = (name: 'low' | 'likely' | 'high') =>
    course.map((range, after) => ({ x: now + after * MONTH_MS, y: range[name] }));
  // What it takes now goes within the first month.
  const less = changed.map((y, after) => ({ x: now + after * MONTH_MS, y: after === 0 ? used : y }));
  return { past, parts: { low: part('low'), likely: part('likely'), high: part('high'), changed: less } };
}

/** The first instants of the years between two. */
function yearsBetween(from: number, to: number): number[] {
  const years: number[] = [];
  for (let year = new Date(from).getUTCFullYear() + 1; Date.UTC(year, 0) <= to; year++) years.push(Date.UTC(year, 0));
  return years;
}
