import { Chart, LinearScale, LineController, LineElement, PointElement } from 'chart.js';
import { useEffect, useRef } from 'react';
import type { Missing } from '../../../core/level/gauge';
import type { Suggestions } from '../../../core/plan/suggestions';
import { fittingUnit, OCTETS_IN } from '../../../core/units';
import { useFigures } from '../../../ui/api/account';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

Chart.register(LineController, LineElement, PointElement, LinearScale);

/** Octets won (or messages, where these are limited) against the number of decisions, with the target as a line. */
export function Winnings({
  suggestions: { suggestions, reach, stop },
  missing,
}: {
  suggestions: Suggestions;
  missing: Missing | null;
}) {
  const { octets, units } = useFigures();
  const canvas = useRef<HTMLCanvasElement>(null);
  const byMessages = missing !== null && 'messages' in missing;
  const need = missing === null ? null : 'messages' in missing ? missing.messages : missing.bytes;
  const amounts = suggestions.map(({ adds }) => (byMessages ? adds.messages : adds.bytes));
  const total = amounts.reduce((sum, amount) => sum + amount, 0);
  const drawn = JSON.stringify([amounts, need, stop.after, units]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: everything that is drawn is in `drawn`
  useEffect(() => {
    if (!canvas.current) return;
    const style = getComputedStyle(canvas.current);
    const color = (name: string) => style.getPropertyValue(name).trim();
    const unit = fittingUnit(Math.max(total, need ?? 0), units);
    const scaled = (amount: number) => (byMessages ? amount : amount / OCTETS_IN[unit]);
    const points = [{ x: 0, y: 0 }];
    for (const amount of amounts) {
      const { x, y } = points.at(-1) as { x: number; y: number };
      points.push({ x: x + 1, y: y + scaled(amount) });
    }
    const most = Math.max(1, amounts.length);
    const base = { parsing: false as const, pointRadius: 0, borderWidth: 1 };
    const ticks = { color: color('--ink-2'), font: { size: 11 } };
    const chart = new Chart(canvas.current, {
      type: 'line',
      data: {
        datasets: [
          {
            ...base,
            data: points,
            borderColor: color('--water'),
            borderWidth: 2,
            pointRadius: points.map((_, index) => (index === stop.after ? 5 : 2)),
            pointStyle: points.map((_, index) => (index === stop.after ? 'rectRot' : 'circle')),
            pointBackgroundColor: points.map((_, index) => color(index === stop.after ? '--ink' : '--water')),
          },
          ...(need
            ? [
                {
                  ...base,
                  data: [
                    { x: 0, y: scaled(need) },
                    { x: most, y: scaled(need) },
                  ],
                  borderColor: color('--ink'),
                  borderDash: [5, 4],
                },
              ]
            : []),
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        events: [],
        scales: {
          x: { type: 'linear', min: 0, max: most, ticks: { ...ticks, precision: 0 }, grid: { display: false } },
          y: {
            type: 'linear',
            min: 0,
            ticks: { ...ticks, callback: (value) => (byMessages ? count(Number(value)) : `${value} ${unit}`) },
            grid: { color: color('--hair') },
          },
        },
        plugins: { legend: { display: false }, tooltip: { enabled: false } },
      },
    });
    return () => chart.destroy();
  }, [drawn]);
  const shown = (amount: number) => (byMessages ? text.messages(amount, count(amount)) : octets(amount));
  const title = byMessages ? text.suggestions.chartMessages : text.suggestions.chart;
  const summary =
    need !== null && reach === null
      ? text.suggestions.short(shown(need - total))
      : `${text.suggestions.decisions(suggestions.length, count(suggestions.length))}: ${shown(total)}`;
  return (
    <section className="card min-w-0 content-start">
      <h2>{title}</h2>
      <div className="h-[240px]">
        <canvas ref={canvas} role="img" aria-label={`${title}. ${summary}`} />
      </div>
      <p className="note">
        {summary}
        {need !== null && ` · ${text.suggestions.chartNote}`}
      </p>
    </section>
  );
}
