import { type KeyboardEvent, type PointerEvent, type ReactNode, useRef, useState } from 'react';
import type { Level, Target } from '../../contract/types';
import { fittingUnit, OCTETS_IN } from '../../core/units';
import { useAccount, useChange, useFigures, useLevel } from '../api/account';
import { octetScale } from '../charts/scale';
import { mustGo } from '../level/need';
import { styled } from '../styled';
import { text } from '../text';
import { count, octetsIn, percent } from '../text/format';
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
  const { octets, units, time } = useFigures();
  const segments = segmentsOf(level);
  const unit = fittingUnit(segments.full, units);
  const share = level.limit ? level.used / level.limit : null;
  const need = mustGo(level);
  const amount = need && ('bytes' in need ? need.bytes : need.messages);
  return (
    <>
      <div className="tank-head">
        <p className="text-[24px] leading-7 font-semibold">{share === null ? octets(level.used) : percent(share)}</p>
        <p className="note">
          {level.limit === null ? '' : `${text.tank.ofLimit(octetsIn(level.used, unit), octets(level.limit))}, `}
          {level.usedBy === 'server' ? text.tank.serverSays(time(level.at)) : text.tank.weCounted}
        </p>
        <p className="mt-1 font-semibold">
          {need === null || amount === null
            ? text.tank.noTarget
            : amount > 0
              ? text.tank.mustGo('bytes' in need ? octets(amount) : text.messages(amount, count(amount)))
              : text.tank.reached}
        </p>
      </div>
      <Vessel level={level} segments={segments} />
      <dl className="tank-legend">
        <Legend swatch="bg-water" name={text.tank.kept} value={octetsIn(segments.kept, unit)} />
        <Legend swatch="hatch" name={text.tank.plan} value={octetsIn(segments.plan, unit)} />
        <Legend swatch="bg-silt" name={text.tank.trash} value={octetsIn(segments.trash, unit)} />
        <Legend swatch="bg-stone" name={text.tank.other} value={octetsIn(segments.other, unit)} />
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

function Vessel({ level, segments }: { level: Level; segments: Segments }) {
  const { units } = useFigures();
  const { settings } = useAccount();
  const { full } = segments;
  const { unit, marks } = octetScale(full, units);
  const at = (octets: number) => `${(Math.max(0, octets) / full) * 100}%`;
  const share = (octets: number) => percent(octets / (level.limit ?? full));
  let base = 0;
  const parts = (
    [
      ['other', 'bg-stone'],
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
      {marks.map((mark) => (
        <span
          key={mark}
          aria-hidden="true"
          className="vessel-mark"
          ref={styled({ '--at': at(mark * OCTETS_IN[unit]) })}
        >
          {+mark.toFixed(2)}
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
      {level.plan.messages > 0 && (
        <div
          className={`vessel-line vessel-after sinks ${level.targetBytes !== null && level.after >= level.targetBytes ? 'vessel-after-high' : ''}`}
          ref={styled({ '--at': at(level.after) })}
        >
          <span>{text.tank.after(share(level.after))}</span>
        </div>
      )}
      {level.limit !== null &&
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
              ref={styled({ '--at': at(line * (level.limit ?? 0)) })}
            />,
          ];
        })}
      {level.limit !== null && level.targetBytes !== null && (
        <TargetLine limit={level.limit} full={full} targetBytes={level.targetBytes} low={isCrowded(level, full)} />
      )}
    </div>
  );
}

/** Whether the line after the plan lies so close above the target that its label would cover the other. */
function isCrowded({ plan, after, targetBytes }: Level, full: number): boolean {
  return plan.messages > 0 && targetBytes !== null && after >= targetBytes && after - targetBytes < 0.035 * full;
}

/** The target: a line to drag, or to move with the arrow keys by one percent. */
function TargetLine({
  limit,
  full,
  targetBytes,
  low,
}: {
  limit: number;
  full: number;
  targetBytes: number;
  /** Whether its label stands below the line, since another stands right above. */
  low: boolean;
}) {
  const { settings } = useAccount();
  const [dragged, setDragged] = useState<number | null>(null);
  const line = useRef<HTMLDivElement>(null);
  const save = useChange<Target>(
    () => '/settings',
    'PATCH',
    (target) => ({ target }),
    ['level', 'settings'],
  );
  const share = dragged ?? targetBytes / limit;
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
    save.mutate({ share: Math.round(Math.min(1, Math.max(0.01, now + step)) * 100) / 100 });
  };
  const release = () => {
    if (dragged === null) return;
    save.mutate({ share: dragged }, { onSettled: () => setDragged(null) });
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
