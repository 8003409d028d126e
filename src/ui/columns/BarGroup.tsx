import type { Tally } from '../../core/columns/cross-filter';
import { largest } from '../../core/columns/order';
import { fittingUnit } from '../../core/units';
import type { Narrowed } from '../../workers/protocol';
import { useFigures } from '../api/account';
import { chosenValues, toggledValue } from '../criteria/conditions';
import { text } from '../text';
import { count, octetsIn } from '../text/format';

/** A value of a distribution: what it holds under all other conditions, and what pressing it means. */
export interface Bar {
  key: string;
  name: string;
  title?: string;
  messages: number;
  bytes: number;
  everything: number;
  chosen: boolean;
  /** The criteria after it is pressed, told then; undefined where it can't be. */
  next: (() => string) | undefined;
}

const FOLDERS_SHOWN = 9;

/** A length in the track of a bar. What another choice in the same dimension leaves out for now is paler. */
const LENGTH = 'absolute inset-y-0 left-0';

/** A distribution as bars. */
export function BarGroup({ name, bars, onChange }: { name: string; bars: Bar[]; onChange(where: string): void }) {
  const { units } = useFigures();
  const longest = Math.max(1, ...bars.map(({ everything }) => everything));
  const unit = fittingUnit(longest, units);
  const narrowed = bars.some(({ chosen }) => chosen);
  return (
    <fieldset className="min-w-0 max-tank:w-[230px] max-tank:flex-none">
      <legend className="note w-full">
        {name}, {unit}
      </legend>
      {bars.map((bar) => (
        <button
          key={bar.key}
          type="button"
          data-bar
          className="grid w-full grid-cols-[minmax(0,1fr)_64px_44px] items-center gap-1.5 rounded-[3px] px-[3px] py-[1.5px] aria-pressed:font-semibold aria-pressed:ring-1 aria-pressed:ring-ink aria-pressed:ring-inset pointer-coarse:min-h-8"
          aria-pressed={bar.chosen}
          disabled={bar.next === undefined}
          title={bar.title ?? `${bar.name}: ${count(bar.messages)}`}
          onClick={() => bar.next !== undefined && onChange(bar.next())}
        >
          <span className="truncate text-left">{bar.name}</span>
          <span aria-hidden="true" className="relative h-[9px] bg-hair">
            <span
              className={`${LENGTH} bg-tint ring-1 ring-water/55 ring-inset`}
              style={{ width: `${(bar.everything / longest) * 100}%` }}
            />
            <span
              className={`${LENGTH} ${narrowed && !bar.chosen ? 'bg-[color-mix(in_srgb,var(--water)_45%,var(--tint))]' : 'bg-water'}`}
              style={{ width: `${(bar.bytes / longest) * 100}%` }}
            />
          </span>
          <span className="text-right">{bar.messages === 0 ? '–' : octetsIn(bar.bytes, unit)}</span>
        </button>
      ))}
    </fieldset>
  );
}

/** What a bar of a tally shows. */
export const amounts = (now: Tally, all: Tally, code: number) => ({
  messages: now.messages[code] ?? 0,
  bytes: now.bytes[code] ?? 0,
  everything: all.bytes[code] ?? 0,
});

/** The largest folders, and those that are chosen. */
export function folderBars(
  { now, all, folders: paths }: Pick<Narrowed, 'now' | 'all' | 'folders'>,
  where: string,
): Bar[] {
  const chosen = chosenValues(where, 'folder');
  const codes = new Set([
    ...largest(all.folders.bytes, FOLDERS_SHOWN),
    ...chosen.map((path) => paths.indexOf(path)).filter((code) => code >= 0),
  ]);
  return [...codes].map((code) => {
    const path = paths[code] as string;
    return {
      key: path,
      name: path,
      ...amounts(now.folders, all.folders, code),
      chosen: chosen.includes(path),
      next: () => toggledValue(where, 'folder', 'folder', path),
    };
  });
}

/** The senders that hold most. */
export function senderBars({ senders: top }: Pick<Narrowed, 'senders'>, where: string): Bar[] {
  const chosen = chosenValues(where, 'from');
  return top.map(({ name, address, messages, bytes, everything }) => ({
    key: address,
    name: name || text.senders.nobody,
    title: `${address}: ${count(messages)}`,
    messages,
    bytes,
    everything,
    chosen: chosen.includes(address),
    next: address === '' ? undefined : () => toggledValue(where, 'sender', 'from', address),
  }));
}
