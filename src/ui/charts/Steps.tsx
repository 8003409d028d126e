import { Chart, Filler, LinearScale, LineController, LineElement, PointElement } from 'chart.js';
import { useEffect, useRef } from 'react';
import { fittingUnit, OCTETS_IN, type UnitSystem } from '../../core/units';

Chart.defaults.font.family = '"Atkinson Hyperlegible Next Variable", sans-serif';
Chart.register(LineController, LineElement, PointElement, LinearScale, Filler);

/** Octets over time as steps, the last of them held until now; with a limit and a target, where there are any. */
export function Steps({
  label,
  readings,
  limit,
  target,
  units,
  timeOf,
}: {
  label: string;
  /** The oldest first. */
  readings: readonly { at: string; used: number }[];
  limit: number | null;
  target: number | null;
  units: UnitSystem;
  timeOf(instant: string): string;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    if (!canvas.current || readings.length === 0) return;
    const style = getComputedStyle(canvas.current);
    const color = (name: string) => style.getPropertyValue(name).trim();
    const unit = fittingUnit(limit ?? readings.at(-1)?.used ?? 0, units);
    const inUnit = (octets: number) => octets / OCTETS_IN[unit];
    const points = [...readings, { at: new Date().toISOString(), used: readings.at(-1)?.used ?? 0 }].map(
      ({ at, used }) => ({ x: Date.parse(at), y: inUnit(used) }),
    );
    const [from, to] = [points[0]?.x ?? 0, points.at(-1)?.x ?? 1];
    const line = (y: number) => [
      { x: from, y },
      { x: to, y },
    ];
    const told = [...points.map(({ y }) => y), ...[limit, target].flatMap((octets) => octets ?? []).map(inUnit)];
    const lowest = Math.max(0, Math.min(...told) - 0.15 * (Math.max(...told) - Math.min(...told)));
    const base = { pointRadius: 0, borderWidth: 1, parsing: false as const };
    const chart = new Chart(canvas.current, {
      type: 'line',
      data: {
        datasets: [
          {
            ...base,
            data: points,
            stepped: true,
            borderColor: color('--water'),
            borderWidth: 2,
            pointRadius: points.length < 40 ? 2 : 0,
            pointBackgroundColor: color('--water'),
          },
          ...(limit === null ? [] : [{ ...base, data: line(inUnit(limit)), borderColor: color('--ink-2') }]),
          ...(target === null
            ? []
            : [{ ...base, data: line(inUnit(target)), borderColor: color('--ink'), borderDash: [5, 4] }]),
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
            max: Math.max(to, from + 1),
            grid: { display: false },
            ticks: {
              color: color('--ink-2'),
              maxTicksLimit: 5,
              maxRotation: 0,
              align: 'inner',
              callback: (value) => timeOf(new Date(Number(value)).toISOString()),
            },
          },
          y: {
            // From the lowest figure that tells something, so that a change is seen.
            min: lowest,
            grid: { color: color('--hair') },
            ticks: {
              color: color('--ink-2'),
              maxTicksLimit: 6,
              callback: (value) => `${Math.round(Number(value) * 100) / 100} ${unit}`,
            },
          },
        },
      },
    });
    return () => chart.destroy();
  }, [readings, limit, target, units, timeOf]);
  return (
    <div className="mt-2 h-[170px]">
      <canvas ref={canvas} role="img" aria-label={label} />
    </div>
  );
}
