import type { Level } from '../../../contract/types';
import { gaugeOf } from '../../../core/level/gauge';
import { useAccount, useFigures } from '../../../ui/api/account';
import { segmentsOf } from '../../../ui/tank/segments';
import { text } from '../../../ui/text';
import { percent } from '../../../ui/text/format';

/** The level now, after the move, and after the purge: the same figures as the tank. */
export function After({ level }: { level: Level }) {
  const { amount } = useFigures();
  const gauge = gaugeOf(level);
  const { of, limit, used, after } = gauge;
  const { other, files, pictures, kept, trash, plan, full } = segmentsOf(gauge);
  const notMail: [string, number][] = [
    ['bg-stone', other],
    ['bg-slate', files],
    ['bg-moss', pictures],
  ];
  const share = (part: number) => (limit === null ? amount(of, part) : percent(part / limit));
  const { thresholds } = useAccount().settings;
  // The host's own lines are of octets.
  const told = (['warning', 'sending', 'receiving'] as const).filter(
    (name) => of === 'bytes' && thresholds[name] !== undefined,
  );
  const target = gauge.target === null ? undefined : gauge.target / full;
  const rows: { name: string; figure: string; parts: [string, number][] }[] = [
    {
      name: text.review.now,
      figure: share(used),
      parts: [...notMail, ['bg-water', kept], ['bg-silt', trash], ['hatch', plan]],
    },
    {
      name: text.review.afterMove,
      figure: share(used),
      parts: [...notMail, ['bg-water', kept], ['bg-silt', trash + plan]],
    },
    {
      name: text.review.afterPurge,
      figure: share(after),
      parts: [...notMail, ['bg-water', kept]],
    },
  ];
  return (
    <section className="card grid content-start gap-3">
      <div className="flex items-baseline justify-between">
        <h2>{text.review.will}</h2>
        {gauge.target !== null && <p className="note">{text.review.target(share(gauge.target))}</p>}
      </div>
      {rows.map(({ name, figure, parts }) => (
        <div key={name}>
          <p className="flex justify-between">
            <span>{name}</span>
            <strong>{figure}</strong>
          </p>
          <div aria-hidden="true" className="relative flex h-4 border border-line bg-paper">
            {parts.map(([paint, part]) => (
              <span key={paint} className={`h-full ${paint}`} style={{ width: `${(part / full) * 100}%` }} />
            ))}
            {limit !== null &&
              told.map((threshold) => (
                <span
                  key={threshold}
                  className="absolute inset-y-0 w-px bg-ink-2"
                  style={{ left: `${(((thresholds[threshold] as number) * limit) / full) * 100}%` }}
                />
              ))}
            {target !== undefined && (
              <span className="absolute -inset-y-[3px] w-[2px] bg-ink" style={{ left: `${target * 100}%` }} />
            )}
          </div>
        </div>
      ))}
      {told.length > 0 && (
        <p className="note">
          {told.map((name) => text.review.thresholds[name](percent(thresholds[name] as number))).join(', ')}
        </p>
      )}
      <p className="note">{text.review.willNote}</p>
    </section>
  );
}
