import type { Level } from '../../../contract/types';
import { useAccount } from '../../../ui/api/account';
import { segmentsOf } from '../../../ui/tank/segments';
import { text } from '../../../ui/text';
import { percent } from '../../../ui/text/format';

/** The level now, after the move, and after the purge: the same figures as the tank. */
export function After({ level }: { level: Level }) {
  const { other, kept, trash, plan, full } = segmentsOf(level);
  const share = (bytes: number) => (level.limit === null ? '' : percent(bytes / level.limit));
  const { thresholds } = useAccount().settings;
  const told = (['warning', 'sending', 'receiving'] as const).filter((name) => thresholds[name] !== undefined);
  const target = level.targetBytes === null ? undefined : level.targetBytes / full;
  const rows: { name: string; figure: string; parts: [string, number][] }[] = [
    {
      name: text.review.now,
      figure: share(level.used),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
        ['bg-silt', trash],
        ['hatch', plan],
      ],
    },
    {
      name: text.review.afterMove,
      figure: share(level.used),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
        ['bg-silt', trash + plan],
      ],
    },
    {
      name: text.review.afterPurge,
      figure: share(level.after),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
      ],
    },
  ];
  return (
    <section className="card grid content-start gap-3">
      <div className="flex items-baseline justify-between">
        <h2>{text.review.will}</h2>
        {level.limit !== null && level.targetBytes !== null && (
          <p className="note">{text.review.target(percent(level.targetBytes / level.limit))}</p>
        )}
      </div>
      {rows.map(({ name, figure, parts }) => (
        <div key={name}>
          <p className="flex justify-between">
            <span>{name}</span>
            <strong>{figure}</strong>
          </p>
          <div aria-hidden="true" className="relative flex h-4 border border-line bg-paper">
            {parts.map(([paint, bytes]) => (
              <span key={paint} className={`h-full ${paint}`} style={{ width: `${(bytes / full) * 100}%` }} />
            ))}
            {level.limit !== null &&
              told.map((threshold) => (
                <span
                  key={threshold}
                  className="absolute inset-y-0 w-px bg-ink-2"
                  style={{ left: `${(((thresholds[threshold] as number) * (level.limit as number)) / full) * 100}%` }}
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
