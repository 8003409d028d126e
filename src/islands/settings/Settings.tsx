import type { FormEvent } from 'react';
import type { Settings } from '../../contract/types';
import { OCTETS_IN } from '../../core/units';
import { useAccount, useChange, useLevel } from '../../ui/api/account';
import { RolesForm } from '../../ui/level/RolesForm';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';
import { Mail } from './Mail';
import { Sessions } from './Sessions';
import { Tokens } from './Tokens';

const THRESHOLDS = ['warning', 'sending', 'receiving'] as const;

/** How often a mailbox is scanned by itself, in hours. */
const SCAN_HOURS = [1, 6, 24, 168];

const ZONES = Intl.supportedValuesOf('timeZone');

/** What the user chooses for the account. */
export function SettingsSheet({ open, onClose }: { open: boolean; onClose(): void }) {
  const level = useLevel().data;
  return (
    <Sheet title={text.settings.title} open={open} onClose={onClose}>
      <Form onDone={onClose} />
      {level && (
        <section className="mt-6 border-line border-t pt-4">
          <RolesForm level={level} onDone={onClose} />
        </section>
      )}
      <Mail />
      <Tokens />
      <Sessions />
    </Sheet>
  );
}

function Form({ onDone }: { onDone(): void }) {
  const { settings } = useAccount();
  const level = useLevel().data;
  const save = useChange<Partial<Settings>>(
    () => '/settings',
    'PATCH',
    (changes) => changes,
    ['settings', 'level', 'messages', 'senders'],
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const number = (name: string) => (form.get(name) ? Number(form.get(name)) : null);
    const limit = number('limit');
    const changes: Partial<Settings> = {
      units: form.get('units') as Settings['units'],
      timeZone: `${form.get('timeZone')}`,
      trashFolder: `${form.get('trashFolder')}` || null,
      trashDays: number('trashDays'),
      scanEveryHours: number('scanEveryHours'),
      limit: limit === null ? null : Math.round(limit * OCTETS_IN.MiB),
      thresholds: Object.fromEntries(
        THRESHOLDS.flatMap((name) => {
          const percent = number(name);
          return percent === null ? [] : [[name, percent / 100]];
        }),
      ),
    };
    const share = number('target');
    if (share !== null) changes.target = { share: share / 100 };
    save.mutate(changes, { onSuccess: onDone });
  };
  const share = 'share' in settings.target ? Math.round(settings.target.share * 100) : '';
  return (
    <form onSubmit={submit} className="grid gap-3">
      <Line label={text.settings.target} name="target">
        <input id="target" name="target" type="number" min={1} max={100} defaultValue={share} className="field" />
      </Line>
      <Line label={text.settings.limit} name="limit">
        <input
          id="limit"
          name="limit"
          type="number"
          min={1}
          defaultValue={settings.limit === null ? '' : Math.round(settings.limit / OCTETS_IN.MiB)}
          className="field"
        />
      </Line>
      {THRESHOLDS.map((name) => (
        <Line key={name} label={text.settings[name]} name={name}>
          <input
            id={name}
            name={name}
            type="number"
            min={1}
            max={100}
            defaultValue={settings.thresholds[name] === undefined ? '' : Math.round(settings.thresholds[name] * 100)}
            className="field"
          />
        </Line>
      ))}
      <Line label={text.settings.units} name="units">
        <select id="units" name="units" defaultValue={settings.units} className="field">
          <option value="binary">{text.settings.binary}</option>
          <option value="decimal">{text.settings.decimal}</option>
        </select>
      </Line>
      <Line label={text.settings.timeZone} name="timeZone">
        <select id="timeZone" name="timeZone" defaultValue={settings.timeZone} className="field">
          {[...new Set([settings.timeZone, 'UTC', ...ZONES])].map((zone) => (
            <option key={zone}>{zone}</option>
          ))}
        </select>
      </Line>
      <Line label={text.settings.scanEvery} name="scanEveryHours">
        <select
          id="scanEveryHours"
          name="scanEveryHours"
          defaultValue={settings.scanEveryHours ?? ''}
          className="field"
        >
          <option value="">{text.settings.scanNever}</option>
          {[...new Set([...SCAN_HOURS, ...(settings.scanEveryHours ? [settings.scanEveryHours] : [])])].map((hours) => (
            <option key={hours} value={hours}>
              {text.settings.scanHours(hours)}
            </option>
          ))}
        </select>
      </Line>
      <Line label={text.settings.trashFolder} name="trashFolder">
        <select id="trashFolder" name="trashFolder" defaultValue={settings.trashFolder ?? ''} className="field">
          <option value="">{text.settings.byServer}</option>
          {level?.folders
            .filter(({ repeats }) => !repeats)
            .map(({ path }) => (
              <option key={path}>{path}</option>
            ))}
        </select>
      </Line>
      <Line label={text.settings.trashDays} name="trashDays">
        <input
          id="trashDays"
          name="trashDays"
          type="number"
          min={1}
          max={3650}
          defaultValue={settings.trashDays ?? ''}
          className="field"
        />
      </Line>
      {save.error && (
        <p role="alert" className="text-go">
          {save.error.message}
        </p>
      )}
      <button type="submit" className="button button-chief" disabled={save.isPending}>
        {text.settings.save}
      </button>
    </form>
  );
}

function Line({ label, name, children }: { label: string; name: string; children: React.ReactNode }) {
  return (
    <div className="grid gap-1">
      <label htmlFor={name} className="note">
        {label}
      </label>
      {children}
    </div>
  );
}
