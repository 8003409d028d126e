import { type FormEvent, useState } from 'react';
import { CATEGORIES } from '../../../core/categories/categories';
import { printText } from '../../../core/criteria/print';
import { OF_THE_PLAN, useChange, useLevel } from '../../../ui/api/account';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';

type Choice = keyof typeof text.guards.choices;

const CHOICES = Object.keys(text.guards.choices) as Choice[];

/** The criteria that a choice and its value mean. */
function criteriaOfChoice(choice: Choice, value: string): string {
  switch (choice) {
    case 'criteria':
      return value;
    case 'age':
      return `age < ${value}`;
    case 'category':
      return `category = ${value}`;
    default:
      return `${choice} = ${printText(value)}`;
  }
}

/** The way to keep anything: a sender, a domain, a folder, a category, what is young, any criteria; or a hold. */
export function NewGuard() {
  const folders = useLevel().data?.folders ?? [];
  const [choice, setChoice] = useState<Choice>('from');
  const [value, setValue] = useState('');
  const [hold, setHold] = useState(false);
  const [years, setYears] = useState('3');
  const [reason, setReason] = useState('');
  const add = useChange<{ where: string; years: number | null; reason: string }>(
    () => '/guards',
    'POST',
    (guard) => guard,
    OF_THE_PLAN,
  );
  const options =
    choice === 'category'
      ? CATEGORIES.map((category) => [category, text.categories[category]] as const)
      : choice === 'under'
        ? folders.filter(({ repeats }) => !repeats).map(({ path }) => [path, path] as const)
        : undefined;
  const typed = options ? value || (options[0]?.[0] ?? '') : value.trim();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      { where: criteriaOfChoice(choice, typed), years: hold ? Number(years) : null, reason: reason.trim() },
      {
        onSuccess: () => {
          setValue('');
          setReason('');
        },
      },
    );
  };
  return (
    <form onSubmit={submit} className="card grid gap-3">
      <h2>{text.guards.add}</h2>
      <div className="flex flex-wrap items-end gap-3">
        <label className="grid gap-1">
          <span className="note">{text.guards.what}</span>
          <select
            className="field"
            value={choice}
            onChange={(event) => {
              setChoice(event.target.value as Choice);
              setValue('');
            }}
          >
            {CHOICES.map((one) => (
              <option key={one} value={one}>
                {text.guards.choices[one]}
              </option>
            ))}
          </select>
        </label>
        {options ? (
          <select
            aria-label={text.guards.choices[choice]}
            className="field"
            value={typed}
            onChange={(event) => setValue(event.target.value)}
          >
            {options.map(([option, name]) => (
              <option key={option} value={option}>
                {name}
              </option>
            ))}
          </select>
        ) : (
          <input
            aria-label={text.guards.choices[choice]}
            className="field min-w-56 flex-1 font-mono"
            required
            maxLength={1_000}
            placeholder={text.guards.placeholders[choice]}
            value={value}
            onChange={(event) => setValue(event.target.value)}
          />
        )}
      </div>
      <div className="flex flex-wrap items-end gap-3">
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={hold} onChange={(event) => setHold(event.target.checked)} />
          {text.guards.isHold}
        </label>
        {hold && (
          <label className="grid gap-1">
            <span className="note">{text.guards.years}</span>
            <input
              type="number"
              min={1}
              max={100}
              required
              className="field w-20"
              value={years}
              onChange={(event) => setYears(event.target.value)}
            />
          </label>
        )}
        <label className="grid min-w-56 flex-1 gap-1">
          <span className="note">{text.guards.reason}</span>
          <input
            className="field"
            required={hold}
            maxLength={500}
            placeholder={hold ? text.guards.reasonHold : ''}
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
        </label>
        <button type="submit" className="button button-chief" disabled={add.isPending || typed === ''}>
          {text.guards.save}
        </button>
      </div>
      <Refused error={add.error} />
    </form>
  );
}
