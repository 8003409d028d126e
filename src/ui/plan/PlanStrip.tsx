import { gaugeOf } from '../../core/level/gauge';
import { isOfFiles } from '../../core/plan/fates';
import { useFigures, useLevel, useLots } from '../api/account';
import { useFilePlan } from '../api/spaces';
import { Link } from '../route';
import { styled } from '../styled';
import { text } from '../text';
import { count } from '../text/format';
import { NextStep } from './NextStep';

/** The plan along the bottom: each lot as wide as what it adds, the target a tick, one sentence, and the way to the review. */
export function PlanStrip() {
  const lots = useLots();
  const level = useLevel();
  const files = useFilePlan().data ?? { lots: [], total: { files: 0, bytes: 0 } };
  const { octets, amount } = useFigures();
  if (!lots.data || !level.data) return <section aria-label={text.strip.label} className="strip" />;
  const { lots: plan, total, guarded } = lots.data;
  const { of, used, trash, trashGuarded, after, target } = gaugeOf(level.data);
  const purged = trash - trashGuarded;
  const goesBesidesTrash = used - after - purged;
  const needed = target === null ? null : Math.max(0, used - purged - target);
  const full = Math.max((needed ?? 0) * 1.5, goesBesidesTrash * 1.1, 1);
  const width = (amount: number) => `${(amount / full) * 100}%`;
  // The trash is taken as purged, so its lot is no part of the gauge.
  const outsideTrash = plan.filter(
    // Files that are taken out leave as many messages as there were.
    ({ suggestion, fate }) => suggestion !== 'trash' && (of === 'bytes' || !isOfFiles(fate)),
  );
  const margin = target === null ? null : target - after;
  const ofFiles = of === 'bytes' ? files.lots : [];
  const isEmpty = plan.length + files.lots.length === 0;
  return (
    <section aria-label={text.strip.label} className="strip">
      <div className="min-w-0 flex-1">
        <div aria-hidden="true" className="relative h-5 border border-line bg-sheet">
          <div className="flex h-full">
            {[
              ...outsideTrash.map(({ id, label, adds }) => ({ id, label, adds: adds[of], paint: 'bg-water' })),
              ...ofFiles.map(({ id, label, adds }) => ({ id, label, adds: adds.bytes, paint: 'bg-slate' })),
            ].map(({ id, label, adds, paint }) => (
              <span
                key={id}
                className={`truncate border-r border-sheet ${paint} px-1.5 py-px text-[11px] leading-4 font-semibold text-sheet`}
                ref={styled({ width: width(adds) })}
              >
                {label}
              </span>
            ))}
          </div>
          {needed !== null && (
            <span className="absolute -inset-y-[3px] w-[2px] bg-ink" ref={styled({ left: width(needed) })} />
          )}
        </div>
        <p className="mt-1 text-[11.5px] max-md:line-clamp-3 md:truncate" role="status">
          {isEmpty ? (
            <NextStep level={level.data} />
          ) : (
            <>
              <strong>
                {text.strip.summary(
                  text.strip.lots(plan.length + files.lots.length, count(plan.length + files.lots.length)),
                  [
                    ...(plan.length > 0 ? [text.messages(total.messages, count(total.messages))] : []),
                    ...(files.lots.length > 0 ? [text.space.files(files.total.files, count(files.total.files))] : []),
                  ].join(', '),
                  octets(total.bytes + files.total.bytes),
                )}
              </strong>
              {' — '}
              {margin === null
                ? text.strip.noTarget
                : margin >= 0
                  ? text.strip.below(amount(of, margin))
                  : text.strip.short(amount(of, -margin))}
              {guarded.messages > 0 && (
                <>
                  {' '}
                  <Link to="/guards" className="link">
                    {text.strip.guarded(text.messages(guarded.messages, count(guarded.messages)))}
                  </Link>
                </>
              )}
            </>
          )}
        </p>
      </div>
      <Link to="/review" className={`button ${isEmpty ? '' : 'button-chief'}`}>
        {text.strip.review}
      </Link>
    </section>
  );
}
