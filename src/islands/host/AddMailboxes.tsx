import { type FormEvent, useState } from 'react';
import type { MailboxSheetReading } from '../../contract/types';
import { ApiProblem } from '../../ui/api/call';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, octets } from '../../ui/text/format';
import { useHostChange } from './useHost';

/** Adds mailboxes: one whose server is asked at once, or many from a sheet that is checked first. */
export function AddMailboxes({ open, onClose }: { open: boolean; onClose(): void }) {
  return (
    <Sheet title={text.host.adding.title} open={open} onClose={onClose}>
      <One onAdded={onClose} />
      <Many onAdded={onClose} />
    </Sheet>
  );
}

function One({ onAdded }: { onAdded(): void }) {
  const { adding } = text.host;
  const [elsewhere, setElsewhere] = useState(false);
  const add = useHostChange<Record<string, unknown>>(() => '/mailboxes', 'POST');
  const wrong =
    add.error instanceof ApiProblem ? new Set(add.error.errors.map(({ field }) => field)) : new Set<string>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const given = (name: string) => `${form.get(name) ?? ''}`.trim();
    const body = {
      user: given('user'),
      note: given('note'),
      ...(elsewhere ? { host: given('host'), port: Number(given('port')), security: given('security') } : {}),
      ...(form.get('password') ? { password: `${form.get('password')}` } : {}),
    };
    add.mutate(body, { onSuccess: onAdded });
  };
  const field = (name: string, label: string, more: object = {}) => (
    <label className="grid gap-1">
      <span className="note">{label}</span>
      <input
        name={name}
        className={`field ${wrong.has(name) ? 'border-go' : ''}`}
        aria-invalid={wrong.has(name)}
        autoComplete="off"
        spellCheck={false}
        {...more}
      />
    </label>
  );
  return (
    <form onSubmit={submit} className="card grid gap-2">
      <h3 className="font-semibold">{adding.one}</h3>
      <p className="note">{adding.oneNote}</p>
      {field('user', adding.user, { required: true, maxLength: 320 })}
      <label>
        <input type="checkbox" checked={elsewhere} onChange={(event) => setElsewhere(event.target.checked)} />{' '}
        {adding.elsewhere}
      </label>
      {elsewhere && (
        <div className="grid grid-cols-[1fr_92px] gap-2">
          {field('host', text.signIn.host, { required: true })}
          {field('port', text.signIn.port, { required: true, inputMode: 'numeric', defaultValue: '993' })}
          <label className="col-span-2 grid gap-1">
            <span className="note">{text.signIn.security}</span>
            <select name="security" className="field" defaultValue="tls">
              <option value="tls">{text.signIn.tls}</option>
              <option value="starttls">{text.signIn.starttls}</option>
              <option value="none">{text.signIn.plain}</option>
            </select>
          </label>
        </div>
      )}
      {field('password', elsewhere ? adding.password : adding.passwordOptional, {
        type: 'password',
        required: elsewhere,
        maxLength: 1000,
      })}
      {field('note', adding.note, { maxLength: 500 })}
      <Refused error={add.error} />
      <button type="submit" className="button justify-self-start" disabled={add.isPending}>
        {add.isPending ? adding.asking : adding.add}
      </button>
    </form>
  );
}

/** Lines of a sheet that are shown; the others are counted. */
const SHOWN = 50;

function Many({ onAdded }: { onAdded(): void }) {
  const { adding } = text.host;
  const [sheet, setSheet] = useState('');
  const read = useHostChange<{ sheet: string; apply: boolean }, MailboxSheetReading>(() => '/sheet', 'POST');
  const reading = read.data;
  const change = (next: string) => {
    setSheet(next);
    read.reset();
  };
  const fresh = reading?.mailboxes.filter(({ there }) => !there).length ?? 0;
  return (
    <section className="card grid gap-2">
      <h3 className="font-semibold">{adding.many}</h3>
      <p className="note">{adding.manyNote}</p>
      <label className="button cursor-pointer justify-self-start focus-within:outline-2">
        {adding.file}
        <input
          type="file"
          accept=".csv,text/csv,text/plain"
          className="sr-only"
          onChange={(event) => void event.target.files?.[0]?.text().then(change)}
        />
      </label>
      <textarea
        className="field h-32 font-mono text-[11.5px]"
        aria-label={adding.sheet}
        spellCheck={false}
        placeholder={adding.example}
        value={sheet}
        onChange={(event) => change(event.target.value)}
      />
      <Refused error={read.error} />
      {reading && (
        <div role="status" className="grid gap-2">
          {reading.issues.length > 0 ? (
            <>
              <p className="font-semibold text-go">
                {adding.issues(reading.issues.length, count(reading.issues.length))}
              </p>
              <ul>
                {reading.issues.slice(0, SHOWN).map(({ line, note, cell }) => (
                  <li key={`${line} ${note}`} className="wrap-anywhere">
                    {adding.line(line)} {adding.notes[note](cell)}
                  </li>
                ))}
              </ul>
            </>
          ) : (
            <p className="font-semibold">
              {adding.right(fresh, count(fresh), count(reading.mailboxes.length - fresh))}
            </p>
          )}
          <Lines of={reading.mailboxes} />
        </div>
      )}
      <div className="flex gap-2">
        <button
          type="button"
          className="button"
          disabled={sheet.trim() === '' || read.isPending}
          onClick={() => read.mutate({ sheet, apply: false })}
        >
          {adding.check}
        </button>
        {reading && reading.issues.length === 0 && fresh > 0 && (
          <button
            type="button"
            className="button button-chief"
            disabled={read.isPending}
            onClick={() => read.mutate({ sheet, apply: true }, { onSuccess: onAdded })}
          >
            {adding.apply(fresh, count(fresh))}
          </button>
        )}
      </div>
    </section>
  );
}

function Lines({ of: mailboxes }: { of: MailboxSheetReading['mailboxes'] }) {
  const { adding } = text.host;
  if (mailboxes.length === 0) return null;
  return (
    <div className="overflow-x-auto">
      <table className="table">
        <tbody>
          {mailboxes.slice(0, SHOWN).map(({ line, user, host, bytes, messages, note, there, needsPassword }) => (
            <tr key={line} className={there ? 'text-ink-2' : ''}>
              <td className="wrap-anywhere">{user}</td>
              <td className="wrap-anywhere text-ink-2">{host}</td>
              <td className="number">
                {bytes !== null && octets(bytes, 'binary')}{' '}
                {messages !== null && text.messages(messages, count(messages))}
              </td>
              <td className="wrap-anywhere">{there ? adding.there : needsPassword ? adding.needsPassword : note}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {mailboxes.length > SHOWN && <p className="note">{adding.more(count(mailboxes.length - SHOWN))}</p>}
    </div>
  );
}
