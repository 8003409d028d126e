import { CATEGORIES } from '../../core/categories/categories';
import { SHOWN_FLAGS } from '../../core/columns/cross-filter';
import { FILE_KINDS } from '../../core/files/kinds';
import { amounts, type Bar, BarGroup, folderBars, senderBars } from '../../ui/columns/BarGroup';
import {
  chosenValues,
  hasFlag,
  hasNoFiles,
  toggledFlag,
  toggledNoFiles,
  toggledValue,
} from '../../ui/criteria/conditions';
import { text } from '../../ui/text';
import type { Narrowed } from '../../workers/protocol';

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
    [text.sift.folder, folderBars(narrowed, where)],
    [text.sift.attached, kinds(narrowed, where)],
    [text.sift.flags, flags(narrowed, where)],
    [text.sift.sendersOf, senderBars(narrowed, where)],
  ];
  return (
    <section
      aria-label={text.sift.distributions}
      className="card flex flex-col gap-2 overflow-y-auto px-2.5 [scrollbar-width:thin] max-tank:max-h-[300px] max-tank:flex-row max-tank:overflow-auto"
    >
      {groups.map(([name, bars]) => (
        <BarGroup key={name} name={name} bars={bars} onChange={onChange} />
      ))}
    </section>
  );
}

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
