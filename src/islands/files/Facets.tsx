import type { Tally } from '../../core/columns/cross-filter';
import { printCriteria } from '../../core/criteria/print';
import type { Criteria } from '../../core/criteria/tree';
import { COPIES, type Copy } from '../../core/files/copies';
import { FILE_KINDS } from '../../core/files/kinds';
import { useAccount } from '../../ui/api/account';
import { amounts, type Bar, BarGroup, folderBars, senderBars } from '../../ui/columns/BarGroup';
import { chosenValues, conditionsOf, replaced, toggledValue } from '../../ui/criteria/conditions';
import { text } from '../../ui/text';
import { FILE_PLACES, type FileFilter, type FilePlace, MAILED, type NarrowedFiles } from '../../workers/protocol';

/** Senders, folders and years that are shown: the rest is found by typing. */
const SHOWN = 6;

/** Files by what narrows them, each distribution under the conditions of all others. */
export function Facets({
  narrowed,
  where,
  filter,
  onChange,
}: {
  narrowed: NarrowedFiles;
  where: string;
  filter: FileFilter;
  onChange(state: Record<string, string>): void;
}) {
  const { timeZone } = useAccount().settings;
  const groups: [string, Bar[]][] = [
    [text.files.kind, kinds(narrowed, where)],
    [text.sift.from, senderBars(narrowed, where).slice(0, SHOWN)],
    [text.files.year, years(narrowed, where, timeZone)],
    [text.sift.folder, folderBars(narrowed, where).slice(0, SHOWN)],
  ];
  const { places } = narrowed;
  const filters: [name: string, key: keyof FileFilter, Bar[]][] = [
    // Where there is no file space all lie in the mail.
    ...(places.all.messages[1] === 0 && filter.place === null
      ? []
      : [
          [text.files.place, 'place', filterBars(FILE_PLACES, places, filter.place, text.files.places)] satisfies [
            string,
            keyof FileFilter,
            Bar[],
          ],
        ]),
    [text.files.mailed, 'mailed', filterBars(MAILED, narrowed.mailed, filter.mailed, text.files.mailedTimes)],
    [text.files.copy, 'copy', filterBars(COPIES, narrowed.copies, filter.copy, text.files.copies)],
  ];
  return (
    <section
      aria-label={text.sift.distributions}
      className="card flex flex-col gap-2 overflow-y-auto px-2.5 [scrollbar-width:thin] max-tank:max-h-[300px] max-tank:flex-row max-tank:overflow-auto"
    >
      {groups.map(
        ([name, bars]) =>
          // Files of a file space have no sender and no folder of the mailbox.
          bars.length > 0 && (
            <BarGroup key={name} name={name} bars={bars} onChange={(next) => onChange({ where: next })} />
          ),
      )}
      {filters.map(([name, key, bars]) => (
        <BarGroup key={key} name={name} bars={bars} onChange={(next) => onChange({ [key]: next })} />
      ))}
    </section>
  );
}

function kinds({ now, all }: NarrowedFiles, where: string): Bar[] {
  const chosen = chosenValues(where, 'kind');
  return FILE_KINDS.map((kind, code) => ({
    key: kind as string,
    name: text.kinds[kind],
    ...amounts(now.kinds, all.kinds, code),
    chosen: chosen.includes(kind),
    next: () => toggledValue(where, 'files', 'kind', kind),
  }))
    .filter(({ everything }) => everything > 0)
    .sort((a, b) => b.everything - a.everything);
}

/** By the year of receipt, the newest first; what is older than those shown is one bar. */
function years({ now, all, months }: NarrowedFiles, where: string, timeZone: string): Bar[] {
  const yearOf = new Intl.DateTimeFormat('en', { timeZone, year: 'numeric' });
  const sums = new Map<number, { messages: number; bytes: number; everything: number }>();
  for (let month = 0; month < months.length - 1; month++) {
    const year = Number(yearOf.format(((months[month] as number) + 1) * 1000));
    const sum = sums.get(year) ?? { messages: 0, bytes: 0, everything: 0 };
    sum.messages += now.months.messages[month] ?? 0;
    sum.bytes += now.months.bytes[month] ?? 0;
    sum.everything += all.months.bytes[month] ?? 0;
    sums.set(year, sum);
  }
  const filled = [...sums].filter(([, { everything }]) => everything > 0).sort(([a], [b]) => b - a);
  const shown = filled.slice(0, SHOWN - 1);
  const rest = filled.slice(SHOWN - 1);
  const bars = shown.map(([year, sum]) => yearBar(where, `${year}`, sum, year, year));
  const [first] = rest;
  if (first) {
    const sum = rest.reduce(
      (so, [, one]) => ({
        messages: so.messages + one.messages,
        bytes: so.bytes + one.bytes,
        everything: so.everything + one.everything,
      }),
      { messages: 0, bytes: 0, everything: 0 },
    );
    bars.push(yearBar(where, text.files.upTo(first[0]), sum, undefined, first[0]));
  }
  return bars;
}

function yearBar(
  where: string,
  name: string,
  sum: { messages: number; bytes: number; everything: number },
  from: number | undefined,
  to: number,
): Bar {
  const test = (op: '>=' | '<', year: number): Criteria => ({
    kind: 'test',
    field: 'received',
    op,
    value: { type: 'day', day: `${year}-01-01` },
  });
  const wanted = [...(from === undefined ? [] : [test('>=', from)]), test('<', to + 1)];
  const has = conditionsOf(where).map(printCriteria);
  const chosen = wanted.every((one) => has.includes(printCriteria(one)));
  return { key: name, name, ...sum, chosen, next: () => replaced(where, ['time'], chosen ? [] : wanted) };
}

function filterBars<T extends Copy | (typeof MAILED)[number] | FilePlace>(
  values: readonly T[],
  { now, all }: { now: Tally; all: Tally },
  chosen: T | null,
  names: Record<T, string>,
): Bar[] {
  return values
    .map((value, code) => ({
      key: value as string,
      name: names[value],
      ...amounts(now, all, code),
      chosen: chosen === value,
      next: () => (chosen === value ? '' : value),
    }))
    .filter(({ everything, chosen: isChosen }) => everything > 0 || isChosen);
}
