import { useState } from 'react';
import type { Archive, Bag } from '../../contract/types';
import { useFigures } from '../../ui/api/account';
import { HandIn } from '../../ui/copies/HandIn';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { Retention } from './Retention';

/** Where the archive lies, when it was read last, and whether anything else has it. */
export function HowSafe({ archive, bags }: { archive: Archive; bags: Bag[] }) {
  const { octets, dayAndTime } = useFigures();
  const { messages, files, onlyHere, damaged, checkedAt, free } = archive;
  const all = messages + files.files;
  const today = new Date().toISOString().slice(0, 10);
  const held = bags.filter(({ heldUntil }) => heldUntil !== null && heldUntil > today);
  const facts: [string, string, boolean][] = [
    [
      text.archive.here,
      free === null
        ? octets(archive.bytes + files.bytes)
        : text.archive.onDisk(octets(archive.bytes + files.bytes), octets(free)),
      false,
    ],
    [text.archive.readAgain, checkedAt === null ? '–' : dayAndTime(checkedAt), false],
    [text.archive.differing, damaged.files === 0 ? text.archive.none : count(damaged.files), damaged.files > 0],
    [
      text.archive.elsewhere,
      all === 0
        ? '–'
        : onlyHere.files === 0
          ? text.archive.allOfIt
          : onlyHere.files >= all
            ? text.archive.noneYet
            : text.archive.someElsewhere(count(all - onlyHere.files), count(all)),
      onlyHere.files > 0,
    ],
    ...(held.length > 0
      ? [
          [text.archive.heldNow, text.archive.heldBags(held.length, count(held.length)), false] as [
            string,
            string,
            boolean,
          ],
        ]
      : []),
  ];
  return (
    <section className="card max-w-xl self-start max-tank:w-full max-tank:max-w-none" aria-label={text.archive.howSafe}>
      <h2 className="font-semibold">{text.archive.howSafe}</h2>
      <dl className="mt-2">
        {facts.map(([name, value, stands]) => (
          <div key={name} className="flex justify-between gap-3 border-b border-hair py-1.5">
            <dt className="text-ink-2">{name}</dt>
            <dd className={`text-right ${stands ? 'font-semibold' : ''}`}>{value}</dd>
          </div>
        ))}
      </dl>
      <p className="note mt-2">{text.archive.safeNote}</p>
      <CheckCopy bags={bags} />
      <Retention />
    </section>
  );
}

/** A copy that lies elsewhere is chosen and read in the browser; only its sums are sent. */
function CheckCopy({ bags }: { bags: Bag[] }) {
  const some = bags.filter(({ state, onlyHere }) => state === 'done' && onlyHere.files > 0);
  const [chosen, setChosen] = useState<number>();
  const bag = some.find(({ id }) => id === chosen) ?? some[0];
  if (!bag) return null;
  return (
    <div className="mt-3 grid gap-2">
      <label className="grid gap-1">
        <span className="note">{text.archive.checkCopyOf}</span>
        <select className="field w-full" value={bag.id} onChange={(event) => setChosen(Number(event.target.value))}>
          {some.map(({ id, label }) => (
            <option key={id} value={id}>
              {label || text.archive.unnamed(id)}
            </option>
          ))}
        </select>
      </label>
      <HandIn key={bag.id} bag={bag} />
    </div>
  );
}
