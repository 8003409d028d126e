import { useEffect, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { useAccount, useLevel } from '../../ui/api/account';
import { text } from '../../ui/text';
import { type Controls, controlsOf, criteriaOf, NO_CONTROLS } from './controls';

const SIZES = {
  binary: ['100 KiB', '1 MiB', '5 MiB', '10 MiB', '20 MiB'],
  decimal: ['100 kB', '1 MB', '5 MB', '10 MB', '20 MB'],
};
const AGES = ['1mo', '6mo', '1y', '2y', '3y', '5y'];

/** The criteria for those who never type an expression: the text follows the controls, the controls follow the text. */
export function ControlPanel({ where, onChange }: { where: string; onChange(where: string): void }) {
  const { settings } = useAccount();
  const level = useLevel().data;
  const parsed = parseCriteria(where);
  const controls = parsed.ok ? controlsOf(parsed.criteria) : undefined;
  const shown = controls ?? NO_CONTROLS;
  const change = (changes: Partial<Controls>) => onChange(criteriaOf({ ...shown, ...changes }));
  const folders = level?.folders.filter(({ repeats, role }) => !repeats && role !== 'trash') ?? [];
  return (
    <section className="card grid shrink-0 grid-cols-2 content-start gap-3 sm:grid-cols-3 lg:w-[214px] lg:grid-cols-1">
      {controls === undefined && <p className="note">{text.sift.ownExpression}</p>}
      <Choice
        id="least-size"
        label={text.sift.leastSize}
        value={shown.leastSize}
        options={SIZES[settings.units]}
        onChange={(leastSize) => change({ leastSize })}
      />
      <Choice
        id="least-age"
        label={text.sift.leastAge}
        value={shown.leastAge}
        options={AGES}
        onChange={(leastAge) => change({ leastAge })}
      />
      <Choice
        id="folder"
        label={`${text.sift.folder}, ${text.sift.without}`}
        value={shown.folder}
        options={folders.map(({ path }) => path)}
        onChange={(folder) => change({ folder })}
      />
      <Word value={shown.word} onChange={(word) => change({ word })} />
      <fieldset className="grid gap-1">
        <legend className="note">{text.sift.flags}</legend>
        <label>
          <input
            type="checkbox"
            checked={shown.unflagged}
            onChange={(event) => change({ unflagged: event.target.checked })}
          />{' '}
          {text.sift.unflagged}
        </label>
        <label>
          <input
            type="checkbox"
            checked={shown.unseen}
            onChange={(event) => change({ unseen: event.target.checked })}
          />{' '}
          {text.sift.unseen}
        </label>
      </fieldset>
    </section>
  );
}

function Choice({
  id,
  label,
  value,
  options,
  onChange,
}: {
  id: string;
  label: string;
  value: string;
  options: string[];
  onChange(value: string): void;
}) {
  const all = value === '' || options.includes(value) ? options : [value, ...options];
  return (
    <div className="grid gap-1">
      <label htmlFor={id} className="note">
        {label}
      </label>
      <select id={id} className="field" value={value} onChange={(event) => onChange(event.target.value)}>
        <option value="">{text.sift.any}</option>
        {all.map((option) => (
          <option key={option}>{option}</option>
        ))}
      </select>
    </div>
  );
}

/** Takes effect a moment after the last letter. */
function Word({ value, onChange }: { value: string; onChange(value: string): void }) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  useEffect(() => {
    if (typed === value) return;
    const timer = setTimeout(() => onChange(typed), 350);
    return () => clearTimeout(timer);
  });
  return (
    <div className="grid gap-1">
      <label htmlFor="word" className="note">
        {text.sift.word}
      </label>
      <input id="word" className="field" value={typed} onChange={(event) => setTyped(event.target.value)} />
    </div>
  );
}
