import { CATEGORIES } from '../../core/categories/categories';
import { SHOWN_FLAGS, type Tally } from '../../core/columns/cross-filter';
import { largest } from '../../core/columns/order';
import { FILE_KINDS } from '../../core/files/kinds';
import { fittingUnit } from '../../core/units';
import { useFigures } from '../../ui/api/account';
import { text } from '../../ui/text';
import { count, octetsIn } from '../../ui/text/format';
import type { Narrowed } from '../../workers/protocol';
import { chosenValues, hasFlag, hasNoFiles, toggledFlag, toggledNoFiles, toggledValue } from './conditions';

interface Bar {
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

/** The linked distributions beside the field: each under the conditions of all others, a press narrows to it. */
export function Distributions({
  narrowed,
  where,
  onChange,
}: {
  narrowed: Narrowed;
  where: string;
  onChange(where: string): void;
}) {
  const groups: [string, Bar[]][] = [
    [text.sift.category, categories(narrowed, where)],
    [text.sift.folder, folders(narrowed, where)],
    [text.sift.attached, kinds(narrowed, where)],
    [text.sift.flags, flags(narrowed, where)],
    [text.sift.sendersOf, senders(narrowed, where)],
  ];
  return (
    <section
      aria-label={text.sift.distributions}
      className="card flex flex-col gap-2 overflow-y-auto px-2.5 [scrollbar-width:thin] max-tank:max-h-[300px] max-tank:flex-row max-tank:overflow-auto"
    >
      {groups.map(([name, bars]) => (
        <Group key={name} name={name} bars={bars} onChange={onChange} />
      ))}
    </section>
  );
}

/** A length in the track of a bar. What another choice in the same dimension leaves out for now is paler. */
const LENGTH = 'absolute inset-y-0 left-0';

function Group({ name, bars, onChange }: { name: string; bars: Bar[]; onChange(where: string): void }) {
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

const amounts = (now: Tally, all: Tally, code: number) => ({
  messages: now.messages[code] ?? 0,
  bytes: now.bytes[code] ?? 0,
  everything: all.bytes[code] ?? 0,
});

function categories({ now, all }: Narrowed, where: string): Bar[] {
  const chosen = chosenValues(where, 'category');
  return CATEGORIES.map((category, code) => ({
    key: category,
    name: text.categories[category],
    ...amounts(now.categories, all.categories, code),
    chosen: chosen.includes(category),
    next: () => toggledValue(where, 'category', 'category', category),
  })).sort((a, b) => b.everything - a.everything);
}

/** The largest folders, and those that are chosen. */
function folders({ now, all, folders: paths }: Narrowed, where: string): Bar[] {
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

function kinds({ now, all }: Narrowed, where: string): Bar[] {
  const chosen = chosenValues(where, 'kind');
  const bars = FILE_KINDS.map((kind, code) => ({
    key: kind as string,
    name: text.kinds[kind],
    ...amounts(now.kinds, all.kinds, code),
    chosen: chosen.includes(kind),
    next: () => toggledValue(where, 'files', 'kind', kind),
  })).filter(({ everything }) => everything > 0);
  return [
    ...bars.sort((a, b) => b.everything - a.everything),
    {
      key: 'none',
      name: text.sift.noFiles,
      ...amounts(now.kinds, all.kinds, FILE_KINDS.length),
      chosen: hasNoFiles(where),
      next: () => toggledNoFiles(where),
    },
  ];
}

/** Each flag, and its absence where that is what people look for. */
const FLAG_BARS = [
  ['seen', SHOWN_FLAGS.indexOf('seen')],
  ['unseen', SHOWN_FLAGS.indexOf('seen') + SHOWN_FLAGS.length],
  ['flagged', SHOWN_FLAGS.indexOf('flagged')],
  ['answered', SHOWN_FLAGS.indexOf('answered')],
] as const;

function flags({ now, all }: Narrowed, where: string): Bar[] {
  return FLAG_BARS.map(([name, code]) => ({
    key: name,
    name: text.flags[name],
    ...amounts(now.flags, all.flags, code),
    chosen: hasFlag(where, name),
    next: () => toggledFlag(where, name),
  }));
}

function senders({ senders: top }: Narrowed, where: string): Bar[] {
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
