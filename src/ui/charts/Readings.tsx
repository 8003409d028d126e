import { Chart, Filler, LinearScale, LineController, LineElement, PointElement } from 'chart.js';
import { useEffect, useRef } from 'react';
import { fittingUnit, OCTETS_IN } from '../../core/units';
import { useFigures, useLevel } from '../api/account';
import { text } from '../text';

Chart.defaults.font.family = '"Atkinson Hyperlegible Next Variable", sans-serif';
Chart.register(LineController, LineElement, PointElement, LinearScale, Filler);

/** Every reading of the server's figure over time, stepped, with the limit and the target. */
export function Readings({ title }: { title: string }) {
  const level = useLevel().data;
  const { units, dayAndTime } = useFigures();
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    if (!canvas.current || !level || level.readings.length === 0) return;
    const style = getComputedStyle(canvas.current);
    const color = (name: string) => style.getPropertyValue(name).trim();
    const unit = fittingUnit(level.limit ?? level.used, units);
    const inUnit = (octets: number) => octets / OCTETS_IN[unit];
    const points = [...level.readings, { at: new Date().toISOString(), used: level.readings.at(-1)?.used ?? 0 }].map(
      ({ at, used }) => ({ x: Date.parse(at), y: inUnit(used) }),
    );
    const [from, to] = [points[0]?.x ?? 0, points.at(-1)?.x ?? 1];
    const line = (y: number) => [
      { x: from, y },
      { x: to, y },
    ];
    const told = [
      ...points.map(({ y }) => y),
      ...[level.limit, level.targetBytes].flatMap((octets) => octets ?? []).map(inUnit),
    ];
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
          ...(level.limit === null
            ? []
            : [{ ...base, data: line(inUnit(level.limit)), borderColor: color('--ink-2') }]),
          ...(level.targetBytes === null
            ? []
            : [{ ...base, data: line(inUnit(level.targetBytes)), borderColor: color('--ink'), borderDash: [5, 4] }]),
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
              callback: (value) => dayAndTime(new Date(Number(value)).toISOString()),
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
  }, [level, units, dayAndTime]);
  return (
    <section className="card">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2>{title}</h2>
        <p className="note">
          {text.ledger.readings}; – – {text.ledger.target}
        </p>
      </div>
      <div className="mt-2 h-[170px]">
        <canvas ref={canvas} role="img" aria-label={text.ledger.readings} />
      </div>
    </section>
  );
}
