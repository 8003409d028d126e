import { Chart, LinearScale, LineController, LineElement, LogarithmicScale, PointElement } from 'chart.js';
import { useEffect, useRef } from 'react';
import { useFigures } from '../../ui/api/account';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { Measured } from '../../workers/protocol';

Chart.register(LineController, LineElement, PointElement, LinearScale, LogarithmicScale);

/** The n largest messages hold x percent of the octets. */
export function Curve({ measured }: { measured: Measured }) {
  const { octets } = useFigures();
  const canvas = useRef<HTMLCanvasElement>(null);
  const { curve, half, total } = measured;
  const summary = text.level.halfOf(count(half.n), count(total.messages));
  useEffect(() => {
    if (!canvas.current || total.bytes === 0) return;
    const style = getComputedStyle(canvas.current);
    const color = (name: string) => style.getPropertyValue(name).trim();
    const percent = (bytes: number) => (bytes / total.bytes) * 100;
    const base = { parsing: false as const, pointRadius: 0 };
    const chart = new Chart(canvas.current, {
      type: 'line',
      data: {
        datasets: [
          {
            ...base,
            data: curve.map(({ n, bytes }) => ({ x: n, y: percent(bytes) })),
            borderColor: color('--water'),
            borderWidth: 2,
          },
          {
            ...base,
            data: [
              { x: half.n, y: 0 },
              { x: half.n, y: percent(half.bytes) },
            ],
            borderColor: color('--ink'),
            borderWidth: 1,
            borderDash: [3, 3],
            pointRadius: [0, 4],
            pointBackgroundColor: color('--ink'),
          },
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        events: [],
        scales: {
          x: {
            type: 'logarithmic',
            min: 1,
            max: Math.max(10, total.messages),
            grid: { display: false },
            ticks: {
              color: color('--ink-2'),
              maxRotation: 0,
              callback: (value) => (Number.isInteger(Math.log10(Number(value))) ? count(Number(value)) : null),
            },
          },
          y: {
            min: 0,
            max: 100,
            grid: { color: color('--hair') },
            ticks: { color: color('--ink-2'), stepSize: 50, callback: (value) => `${value} %` },
          },
        },
      },
    });
    return () => chart.destroy();
  }, [curve, half, total]);
  return (
    <section className="card">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.level.curve}</h2>
        <p className="note">{total.messages > 0 ? `${summary}: ${octets(half.bytes)}` : text.level.noMessages}</p>
      </div>
      <div className="h-[132px]">
        <canvas ref={canvas} role="img" aria-label={`${text.level.curve}: ${summary}`} />
      </div>
    </section>
  );
}
