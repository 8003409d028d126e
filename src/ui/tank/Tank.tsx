import { type KeyboardEvent, type PointerEvent, type ReactNode, useRef, useState } from 'react';
import type { Level, Target } from '../../contract/types';
import { type Gauge, gaugeOf } from '../../core/level/gauge';
import { QUOTA_UNIT } from '../../core/space/share';
import { fittingUnit, OCTETS_IN, type UnitSystem } from '../../core/units';
import { useAccount, useChange, useFigures, useLevel } from '../api/account';
import { countScale, octetScale } from '../charts/scale';
import { styled } from '../styled';
import { text } from '../text';
import { count, octetsIn, percent, shortCount } from '../text/format';
import { type Segments, segmentsOf } from './segments';

/** The level as a vessel, at the edge of every view: how full, what must go, how far the plan comes. */
export function Tank({ mark }: { mark: ReactNode }) {
  const level = useLevel();
  return (
    <section aria-label={text.tank.label} className="tank">
      {mark}
      {level.data && <Filling level={level.data} />}
    </section>
  );
}

/** What the tank of the account around it shows. */
export function Filling({ level }: { level: Level }) {
  const { amount, units, time } = useFigures();
  const gauge = gaugeOf(level);
  const { of, used, limit, target } = gauge;
  const segments = segmentsOf(gauge);
  const hasFiles = segments.files + segments.pictures > 0;
  const unit = fittingUnit(segments.full, units);
  const short = (number: number) => (of === 'bytes' ? octetsIn(number, unit) : count(number));
  const share = limit ? used / limit : null;
  const isTold = of === 'bytes' ? level.usedBy === 'server' : level.messagesUsed !== undefined;
  return (
    <>
      <div className="tank-head">
        <p className="text-[24px] leading-7 font-semibold">{share === null ? amount(of, used) : percent(share)}</p>
        <p className="note">
          {limit === null ? '' : `${text.tank.ofLimit(short(used), amount(of, limit))}, `}
          {isTold ? text.tank.serverSays(time(level.at)) : text.tank.weCounted}
        </p>
        <p className="mt-1 font-semibold">
          {target === null
            ? text.tank.noTarget
            : used > target
              ? text.tank.mustGo(amount(of, used - target))
              : text.tank.reached}
        </p>
      </div>
      <Vessel gauge={gauge} planned={segments.plan > 0} segments={segments} />
      <dl className="tank-legend">
        <Legend swatch="bg-water" name={text.tank.kept} value={short(segments.kept)} />
        <Legend swatch="hatch" name={text.tank.plan} value={short(segments.plan)} />
        <Legend swatch="bg-silt" name={text.tank.trash} value={short(segments.trash)} />
        {segments.files > 0 && <Legend swatch="bg-slate" name={text.tank.files} value={short(segments.files)} />}
        {segments.pictures > 0 && (
          <Legend swatch="bg-moss" name={text.tank.pictures} value={short(segments.pictures)} />
        )}
        {(!hasFiles || segments.other > QUOTA_UNIT) && (
          <Legend
            swatch="bg-stone"
            name={hasFiles ? text.tank.unexplained : text.tank.other}
            value={short(segments.other)}
          />
        )}
      </dl>
    </>
  );
}

function Legend({ swatch, name, value }: { swatch: string; name: string; value: string }) {
  return (
    <div className="flex items-center gap-2">
      <span aria-hidden="true" className={`size-[9px] shrink-0 ${swatch}`} />
      <dt className="flex-1 whitespace-nowrap">{name}</dt>
      <dd>{value}</dd>
    </div>
  );
}

/** The host's own lines, where the user stated them. */
const THRESHOLDS = ['warning', 'sending', 'receiving'] as const;

/** The marks of the scale, each at its amount. */
function marksOf({ of }: Gauge, full: number, units: UnitSystem): { at: number; name: string }[] {
  if (of === 'messages') return countScale(full).map((at) => ({ at, name: shortCount(at) }));
  const { unit, marks } = octetScale(full, units);
  return marks.map((mark) => ({ at: mark * OCTETS_IN[unit], name: `${+mark.toFixed(2)}` }));
}

function Vessel({ gauge, planned, segments }: { gauge: Gauge; planned: boolean; segments: Segments }) {
  const { units } = useFigures();
  const { settings } = useAccount();
  const { of, limit, target, after } = gauge;
  const { full } = segments;
  const at = (amount: number) => `${(Math.max(0, amount) / full) * 100}%`;
  const share = (amount: number) => percent(amount / (limit ?? full));
  let base = 0;
  const parts = (
    [
      ['other', 'bg-stone'],
      ['files', 'bg-slate'],
      ['pictures', 'bg-moss'],
      ['kept', 'bg-water'],
      ['trash', 'bg-silt'],
      ['plan', 'hatch'],
    ] as const
  ).map(([name, paint]) => {
    const from = base;
    base += segments[name];
    return { name, paint, from, size: segments[name] };
  });
  return (
    <div className="vessel">
      {marksOf(gauge, full, units).map(({ at: mark, name }) => (
        <span key={mark} aria-hidden="true" className="vessel-mark" ref={styled({ '--at': at(mark) })}>
          {name}
        </span>
      ))}
      <div className="vessel-body" aria-hidden="true">
        {parts.map(({ name, paint, from, size }) =>
          size > 0 ? (
            <div
              key={name}
              className={`vessel-part sinks ${paint}`}
              ref={styled({ '--from': at(from), '--size': at(size) })}
            />
          ) : null,
        )}
      </div>
      {planned && (
        <div
          className={`vessel-line vessel-after sinks ${target !== null && after >= target ? 'vessel-after-high' : ''}`}
          ref={styled({ '--at': at(after) })}
        >
          <span>{text.tank.after(share(after))}</span>
        </div>
      )}
      {limit !== null &&
        of === 'bytes' &&
        THRESHOLDS.flatMap((name) => {
          const line = settings.thresholds[name];
          if (line === undefined) return [];
          const said = text.level.thresholdAt(text.level.thresholds[name], percent(line));
          return [
            <div
              key={name}
              role="img"
              aria-label={said}
              title={said}
              className="vessel-threshold"
              ref={styled({ '--at': at(line * limit) })}
            />,
          ];
        })}
      {limit !== null && target !== null && (
        <TargetLine limit={limit} full={full} target={target} low={planned && isCrowded(gauge, full)} />
      )}
    </div>
  );
}

/** Whether the line after the plan lies so close above the target that its label would cover the other. */
function isCrowded({ after, target }: Gauge, full: number): boolean {
  return target !== null && after >= target && after - target < 0.035 * full;
}

/** The target: a line to drag, or to move with the arrow keys by one percent. */
function TargetLine({
  limit,
  full,
  target,
  low,
}: {
  limit: number;
  full: number;
  target: number;
  /** Whether its label stands below the line, since another stands right above. */
  low: boolean;
}) {
  const { settings } = useAccount();
  const [dragged, setDragged] = useState<number | null>(null);
  const line = useRef<HTMLDivElement>(null);
  const save = useChange<Target>(
    () => '/settings',
    'PATCH',
    (changed) => ({ target: changed }),
    ['level', 'settings'],
  );
  /** A target in messages stays one. */
  const targetAt = (part: number): Target =>
    'messages' in settings.target ? { messages: Math.round(part * limit) } : { share: part };
  const share = dragged ?? target / limit;
  const shareAt = (event: PointerEvent) => {
    const box = line.current?.parentElement?.getBoundingClientRect();
    if (!box) return share;
    const along =
      box.height > box.width ? (box.bottom - event.clientY) / box.height : (event.clientX - box.left) / box.width;
    return Math.round(Math.min(1, Math.max(0.01, (along * full) / limit)) * 100) / 100;
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const step = { ArrowUp: 0.01, ArrowRight: 0.01, ArrowDown: -0.01, ArrowLeft: -0.01, PageUp: 0.1, PageDown: -0.1 }[
      event.key
    ];
    if (step === undefined) return;
    event.preventDefault();
    const now = 'share' in settings.target ? settings.target.share : share;
    save.mutate(targetAt(Math.round(Math.min(1, Math.max(0.01, now + step)) * 100) / 100));
  };
  const release = () => {
    if (dragged === null) return;
    save.mutate(targetAt(dragged), { onSettled: () => setDragged(null) });
  };
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label={text.tank.slider}
      aria-valuemin={1}
      aria-valuemax={100}
      aria-valuenow={Math.round(share * 100)}
      className={`vessel-line vessel-target ${low ? 'vessel-target-low' : ''}`}
      ref={(element) => {
        line.current = element;
        styled({ '--at': `${((share * limit) / full) * 100}%` })(element);
      }}
      onKeyDown={onKeyDown}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDragged(share);
      }}
      onPointerMove={(event) => dragged !== null && setDragged(shareAt(event))}
      onPointerUp={release}
    >
      <span>{text.tank.target(percent(share))}</span>
    </div>
  );
}
