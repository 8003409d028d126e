import type { Rhythm, StandingLot } from '../../contract/types';
import { parseCriteria } from '../../core/criteria/parse';
import { STANDING_FATES, type StandingFate } from '../../core/standing/terms';
import { CriteriaField } from '../criteria/CriteriaField';
import { text } from '../text';

/** Examples that a press writes into the field. */
const EXAMPLES = [
  'category = mailings and age > 1y',
  'category = automatic and newest > 24',
  'category = mailings and monthly > 1',
  'age > 5y and files >= 1',
];

/** What a person types, before it is numbers. */
export interface EnteredTerms {
  label: string;
  where: string;
  fate: StandingFate;
  every: string;
  unit: Rhythm['unit'];
  weekday: string;
  monthday: string;
  at: string;
  purgeAfter: string;
  most: string;
}

export function enteredTerms(lot?: StandingLot, where = ''): EnteredTerms {
  const rhythm = lot?.rhythm;
  return {
    label: lot?.label ?? '',
    where: lot?.where ?? where,
    fate: lot?.fate ?? 'trash',
    every: `${rhythm?.every ?? 1}`,
    unit: rhythm?.unit ?? 'month',
    weekday: rhythm?.unit === 'week' ? `${rhythm.day}` : '7',
    monthday: rhythm?.unit === 'month' ? `${rhythm.day}` : '1',
    at: rhythm?.at ?? '03:00',
    purgeAfter: lot?.purgeAfterDays == null ? '' : `${lot.purgeAfterDays}`,
    most: lot?.most == null ? '' : `${lot.most}`,
  };
}

/** Whether what was typed can be sent. */
export function areReady({ label, where }: EnteredTerms): boolean {
  return label.trim() !== '' && where.trim() !== '' && parseCriteria(where).ok;
}

/** What a standing lot takes, and when: fields of a form. */
export function TermFields({
  entered,
  onChange: set,
}: {
  entered: EnteredTerms;
  onChange(change: Partial<EnteredTerms>): void;
}) {
  const { unit } = entered;
  return (
    <>
      <label className="grid gap-1">
        {text.standing.name}
        <input
          className="field"
          required
          maxLength={200}
          value={entered.label}
          onChange={({ target }) => set({ label: target.value })}
        />
      </label>
      <div className="grid gap-1">
        <span>{text.standing.takes}</span>
        <CriteriaField
          value={entered.where}
          placeholder={EXAMPLES[0] as string}
          onChange={(typed) => set({ where: typed })}
        />
        <span className="note flex flex-wrap gap-x-3">
          {EXAMPLES.map((example) => (
            <button key={example} type="button" className="link font-mono" onClick={() => set({ where: example })}>
              {example}
            </button>
          ))}
        </span>
      </div>
      <label className="grid gap-1">
        {text.standing.fate}
        <select
          className="field"
          value={entered.fate}
          onChange={({ target }) => set({ fate: target.value as StandingFate })}
        >
          {STANDING_FATES.map((fate) => (
            <option key={fate} value={fate}>
              {text.standing.fates[fate]}
            </option>
          ))}
        </select>
      </label>
      <fieldset className="flex flex-wrap items-center gap-2">
        <legend className="mb-1">{text.standing.when}</legend>
        <span>{text.standing.every}</span>
        <input
          aria-label={text.standing.everyLabel}
          className="field w-16 text-right"
          type="number"
          min={1}
          max={120}
          required
          value={entered.every}
          onChange={({ target }) => set({ every: target.value })}
        />
        <select
          aria-label={text.standing.unitLabel}
          className="field"
          value={unit}
          onChange={({ target }) => set({ unit: target.value as Rhythm['unit'] })}
        >
          {(['day', 'week', 'month'] as const).map((one) => (
            <option key={one} value={one}>
              {text.standing.units[one]}
            </option>
          ))}
        </select>
        {unit === 'week' && (
          <select
            aria-label={text.standing.weekdayLabel}
            className="field"
            value={entered.weekday}
            onChange={({ target }) => set({ weekday: target.value })}
          >
            {text.standing.weekdays.map((name, at) => (
              <option key={name} value={at + 1}>
                {text.standing.on(name)}
              </option>
            ))}
          </select>
        )}
        {unit === 'month' && (
          <label className="flex items-center gap-2">
            {text.standing.onDay}
            <input
              aria-label={text.standing.monthdayLabel}
              className="field w-16 text-right"
              type="number"
              min={1}
              max={31}
              required
              value={entered.monthday}
              onChange={({ target }) => set({ monthday: target.value })}
            />
          </label>
        )}
        <label className="flex items-center gap-2">
          {text.standing.at}
          <input
            aria-label={text.standing.timeLabel}
            className="field"
            type="time"
            required
            value={entered.at}
            onChange={({ target }) => set({ at: target.value })}
          />
        </label>
        {unit === 'month' && Number(entered.monthday) > 28 && <p className="note basis-full">{text.standing.short}</p>}
      </fieldset>
      <Optional
        label={text.standing.purgeAfter}
        unit={text.standing.days}
        note={text.standing.purgeNote}
        value={entered.purgeAfter}
        onChange={(purgeAfter) => set({ purgeAfter })}
      />
      <Optional
        label={text.standing.askAbove}
        unit={text.standing.messages}
        note={text.standing.askNote}
        value={entered.most}
        onChange={(most) => set({ most })}
      />
    </>
  );
}

/** A number that may be left out. */
function Optional({
  label,
  unit,
  note,
  value,
  onChange,
}: {
  label: string;
  unit: string;
  note: string;
  value: string;
  onChange(value: string): void;
}) {
  return (
    <label className="grid gap-1">
      {label}
      <span className="flex items-center gap-2">
        <input
          className="field w-24 text-right"
          type="number"
          min={0}
          value={value}
          onChange={({ target }) => onChange(target.value)}
        />
        {unit}
      </span>
      <span className="note">{note}</span>
    </label>
  );
}

/** What was typed as the API takes it. @param from the day from which weeks and months are counted. */
export function termsOf({ every, unit, weekday, monthday, at, purgeAfter, most, ...rest }: EnteredTerms, from: string) {
  return {
    ...rest,
    rhythm: {
      unit,
      every: Number(every),
      day: unit === 'week' ? Number(weekday) : unit === 'month' ? Number(monthday) : null,
      from,
      at,
    },
    purgeAfterDays: purgeAfter === '' ? null : Number(purgeAfter),
    most: most === '' ? null : Number(most),
  };
}
