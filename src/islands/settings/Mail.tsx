import { type FormEvent, useState } from 'react';
import type { Settings } from '../../contract/types';
import { useAccount, useChange } from '../../ui/api/account';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { percent } from '../../ui/text/format';

/** Shares of the limit from which on a mail may be wished. */
const ABOVE = [0.8, 0.85, 0.9, 0.95];

/** Which mail is sent, and where to. An address gets none before the code that is sent there was typed. */
export function Mail() {
  const { account, settings } = useAccount();
  const [codeAt, setCodeAt] = useState<string>();
  const save = useChange<Partial<Settings>>(
    () => '/settings',
    'PATCH',
    (changes) => changes,
    ['settings'],
  );
  const send = useChange<string, { to: string }>(
    () => '/mail-address',
    'POST',
    (to) => ({ to }),
    [],
    ({ to }) => setCodeAt(to),
  );
  const confirm = useChange<string>(
    () => '/mail-address/code',
    'POST',
    (code) => ({ code }),
    ['settings'],
    () => setCodeAt(undefined),
  );
  const submit = (field: string, act: (value: string) => void) => (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    act(`${new FormData(event.currentTarget).get(field)}`.trim());
  };
  if (!settings.canMail) return null;
  const own = account.user.includes('@') ? account.user : '';
  return (
    <section className="mt-6 border-line border-t pt-4">
      <h3 className="font-semibold">{text.mail.title}</h3>
      <p className="mb-2 wrap-anywhere">{settings.mailTo ? text.mail.goesTo(settings.mailTo) : text.mail.nowhere}</p>
      {settings.mailTo && (
        <div className="mb-3 grid gap-2">
          <label className="note grid gap-1">
            {text.mail.when}
            <select
              className="field"
              value={settings.mailWhen}
              onChange={(event) => save.mutate({ mailWhen: event.target.value as Settings['mailWhen'] })}
            >
              <option value="never">{text.mail.never}</option>
              <option value="long">{text.mail.long}</option>
              <option value="always">{text.mail.always}</option>
            </select>
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={settings.mailNewBrowser}
              onChange={(event) => save.mutate({ mailNewBrowser: event.target.checked })}
            />
            {text.mail.newBrowser}
          </label>
          <label className="note grid gap-1">
            {text.mail.above}
            <select
              className="field"
              value={settings.mailAbove ?? ''}
              onChange={({ target }) => save.mutate({ mailAbove: target.value === '' ? null : Number(target.value) })}
            >
              <option value="">{text.mail.never}</option>
              {[...new Set([...ABOVE, ...(settings.mailAbove === null ? [] : [settings.mailAbove])])].map((share) => (
                <option key={share} value={share}>
                  {text.mail.aboveShare(percent(share))}
                </option>
              ))}
            </select>
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={settings.mailMonthly}
              onChange={({ target }) => save.mutate({ mailMonthly: target.checked })}
            />
            {text.mail.monthly}
          </label>
          <button type="button" className="button justify-self-start" onClick={() => save.mutate({ mailTo: null })}>
            {text.mail.stop}
          </button>
        </div>
      )}
      {codeAt ? (
        <form onSubmit={submit('code', confirm.mutate)} className="grid gap-2">
          <p role="status" className="wrap-anywhere">
            {text.mail.codeSent(codeAt)}
          </p>
          <label className="note grid gap-1">
            {text.mail.code}
            <input
              name="code"
              required
              inputMode="numeric"
              pattern="[0-9]{8}"
              autoComplete="one-time-code"
              className="field w-40 tabular-nums"
            />
          </label>
          <div className="flex flex-wrap gap-2">
            <button type="submit" className="button button-chief" disabled={confirm.isPending}>
              {text.mail.confirm}
            </button>
            <button type="button" className="button" onClick={() => setCodeAt(undefined)}>
              {text.mail.otherAddress}
            </button>
          </div>
        </form>
      ) : (
        <form onSubmit={submit('to', send.mutate)} className="grid gap-2">
          <label className="note grid gap-1">
            {settings.mailTo ? text.mail.anotherAddress : text.mail.address}
            <input name="to" type="email" required maxLength={254} defaultValue={own} className="field w-full" />
          </label>
          <button type="submit" className="button justify-self-start" disabled={send.isPending}>
            {text.mail.send}
          </button>
        </form>
      )}
      <Refused error={save.error ?? send.error ?? confirm.error} />
    </section>
  );
}
