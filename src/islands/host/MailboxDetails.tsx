import { useQuery } from '@tanstack/react-query';
import { type FormEvent, type ReactNode, useState } from 'react';
import type { HostMailbox, HostMailboxChange, HostMeasurement, SignedIn } from '../../contract/types';
import { call } from '../../ui/api/call';
import { MAILBOX } from '../../ui/route';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { ago, count, day, octets } from '../../ui/text/format';
import { LevelBar } from './columns';
import { Past } from './Past';
import { fullIn, saysOf } from './told';
import { useHostChange, useOperator } from './useHost';

/** One mailbox: its figures and where they come from, what is stated of it, and the way into it. */
export function MailboxDetails({ mailbox, onClose }: { mailbox: HostMailbox | undefined; onClose(): void }) {
  return (
    <Sheet title={mailbox?.user ?? ''} open={mailbox !== undefined} onClose={onClose}>
      {mailbox && (
        <>
          <Figures mailbox={mailbox} />
          <History mailbox={mailbox} />
          <Opening mailbox={mailbox} />
          <Stated mailbox={mailbox} />
          <Removal mailbox={mailbox} onClose={onClose} />
        </>
      )}
    </Sheet>
  );
}

function Figures({ mailbox }: { mailbox: HostMailbox }) {
  const { measured, stated, problem, grown, way } = mailbox;
  const { details } = text.host;
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  const by = (isServer: boolean) => (isServer ? details.byServer : details.counted);
  const rows: [string, ReactNode][] = measured
    ? [
        ...(measured.bytes
          ? [
              [
                details.inUse,
                `${octets(measured.bytes.used, 'binary')}${measured.bytes.limit === null ? '' : ` ${details.of(octets(measured.bytes.limit, 'binary'))}`}, ${by(measured.bytes.usedBy === 'server')}`,
              ] as [string, ReactNode],
            ]
          : []),
        [
          details.messages,
          `${count(measured.messages.used)}${measured.messages.limit === null ? '' : ` ${details.of(count(measured.messages.limit))}`}, ${by(measured.messages.usedBy === 'server')}`,
        ],
        [details.trash, amount(measured.trash)],
        [details.junk, amount(measured.junk)],
        ...(measured.unseen === null ? [] : [[details.unread, count(measured.unseen)] as [string, ReactNode]]),
        ...(measured.notMail === null
          ? []
          : [[details.notMail, octets(measured.notMail, 'binary')] as [string, ReactNode]]),
        [
          details.mustGo,
          measured.excess.bytes === 0 && measured.excess.messages === 0
            ? details.nothing
            : [
                ...(measured.excess.bytes > 0 ? [octets(measured.excess.bytes, 'binary')] : []),
                ...(measured.excess.messages > 0
                  ? [text.messages(measured.excess.messages, count(measured.excess.messages))]
                  : []),
              ].join(', '),
        ],
        [
          details.growth,
          grown ? details.grown(octets(grown.bytes, 'binary'), count(grown.messages), grown.days) : details.tooFew,
        ],
        [details.fullIn, fullIn(mailbox, timeZone)],
      ]
    : [];
  return (
    <section className="grid gap-2">
      <p className="font-semibold">{saysOf(mailbox)}</p>
      {problem && (
        <p role="alert" className="text-go">
          {problem.detail}
        </p>
      )}
      {measured?.share != null && <LevelBar share={measured.share} target={stated.target} />}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      <p className="note">
        {measured ? details.measured(ago(measured.at)) : details.never} {details.ways[way]}
      </p>
    </section>
  );
}

function amount({ messages, bytes }: { messages: number; bytes: number | null }): string {
  const shown = text.messages(messages, count(messages));
  return bytes === null ? shown : `${shown}, ${octets(bytes, 'binary')}`;
}

function History({ mailbox: { id, measured } }: { mailbox: HostMailbox }) {
  const { id: operator, base } = useOperator();
  const past = useQuery({
    queryKey: ['host-past', operator, id, measured?.at],
    queryFn: () => call<{ measurements: HostMeasurement[] }>(`${base}/mailboxes/${id}/measurements`),
  }).data?.measurements;
  if (!past || past.length < 2) return null;
  return <Past measurements={past} limit={measured?.bytes?.limit ?? null} />;
}

/** The way into the mailbox: a reason first, which its owner reads. */
function Opening({ mailbox: { id, user, account, way } }: { mailbox: HostMailbox }) {
  const { open } = text.host;
  const [reason, setReason] = useState('');
  const opening = useHostChange<{ reason: string }, SignedIn>(() => `/mailboxes/${id}/openings`, 'POST');
  if (account !== null)
    return (
      <section className="card grid gap-2">
        <h3 className="font-semibold">{open.isOpen}</h3>
        <a className="button button-chief justify-self-start" href={`/level?${MAILBOX}=${account}`}>
          {open.goTo}
        </a>
      </section>
    );
  if (way === 'none') return null;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    opening.mutate(
      { reason },
      { onSuccess: ({ account: made }) => window.location.assign(`/level?${MAILBOX}=${made.id}`) },
    );
  };
  return (
    <form onSubmit={submit} className="card grid gap-2">
      <h3 className="font-semibold">{open.title}</h3>
      <p>{open.note(user)}</p>
      <label className="grid gap-1">
        <span className="note">{open.reason}</span>
        <input
          className="field"
          required
          minLength={3}
          maxLength={500}
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
      </label>
      <Refused error={opening.error} />
      <button
        type="submit"
        className="button justify-self-start"
        disabled={opening.isPending || reason.trim().length < 3}
      >
        {opening.isPending ? open.going : open.go}
      </button>
    </form>
  );
}

/** What a person states of the mailbox. */
function Stated({ mailbox }: { mailbox: HostMailbox }) {
  const { stated, note, id, measured } = mailbox;
  const { say } = text.host;
  const [saved, setSaved] = useState(false);
  const change = useHostChange<HostMailboxChange>(() => `/mailboxes/${id}`, 'PATCH');
  const tellsLimit = measured?.bytes?.limitBy === 'server';
  const tellsMost = measured?.messages.limitBy === 'server';
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const given = (name: string) => `${form.get(name) ?? ''}`.trim();
    const number = (name: string, unit = 1) => (given(name) === '' ? null : Math.round(Number(given(name)) * unit));
    const password = given('password');
    change.mutate(
      {
        target: Math.min(1, Math.max(0.01, Number(given('target')) / 100)),
        note: given('note'),
        leftOn: given('leftOn') || null,
        catchesAll: form.get('catchesAll') !== null,
        ...(tellsLimit ? {} : { bytes: number('bytes', 2 ** 30) }),
        ...(tellsMost ? {} : { messages: number('messages') }),
        ...(password === '' ? {} : { password }),
      },
      { onSuccess: () => setSaved(true) },
    );
  };
  const field = (name: string, label: string, input: ReactNode) => (
    <div key={name} className="grid gap-1">
      <label className="note" htmlFor={`stated-${name}`}>
        {label}
      </label>
      {input}
    </div>
  );
  return (
    <form onSubmit={submit} onChange={() => setSaved(false)} className="card grid gap-3 sm:grid-cols-2">
      <h3 className="font-semibold sm:col-span-2">{say.title}</h3>
      {field(
        'target',
        say.target,
        <input
          className="field"
          id="stated-target"
          name="target"
          type="number"
          min={1}
          max={100}
          required
          defaultValue={Math.round(stated.target * 100)}
        />,
      )}
      {field(
        'leftOn',
        say.leftOn,
        <input
          className="field"
          id="stated-leftOn"
          name="leftOn"
          type="date"
          max={day(new Date().toISOString(), 'UTC')}
          defaultValue={stated.leftOn ?? ''}
        />,
      )}
      {!tellsLimit &&
        field(
          'bytes',
          say.bytes,
          <input
            className="field"
            id="stated-bytes"
            name="bytes"
            type="number"
            min={0.001}
            step="any"
            defaultValue={stated.bytes === null ? '' : stated.bytes / 2 ** 30}
          />,
        )}
      {!tellsMost &&
        field(
          'messages',
          say.messages,
          <input
            className="field"
            id="stated-messages"
            name="messages"
            type="number"
            min={1}
            defaultValue={stated.messages ?? ''}
          />,
        )}
      <div className="sm:col-span-2">
        {field(
          'note',
          say.note,
          <input className="field" id="stated-note" name="note" maxLength={500} defaultValue={note} />,
        )}
      </div>
      <div className="sm:col-span-2">
        {field(
          'password',
          say.password,
          <input
            className="field"
            id="stated-password"
            name="password"
            type="password"
            autoComplete="off"
            maxLength={1000}
          />,
        )}
      </div>
      <label className="sm:col-span-2">
        <input type="checkbox" name="catchesAll" defaultChecked={stated.catchesAll} /> {say.catchesAll}
      </label>
      <div className="flex items-center gap-3 sm:col-span-2">
        <button type="submit" className="button" disabled={change.isPending}>
          {say.save}
        </button>
        <span role="status">{saved && say.saved}</span>
      </div>
      <div className="sm:col-span-2">
        <Refused error={change.error} />
      </div>
    </form>
  );
}

function Removal({ mailbox: { id }, onClose }: { mailbox: HostMailbox; onClose(): void }) {
  const removal = useHostChange<undefined>(() => `/mailboxes/${id}`, 'DELETE');
  const [asked, setAsked] = useState(false);
  const { remove } = text.host;
  return (
    <section className="note flex flex-wrap items-center gap-3">
      <span className="flex-1">{remove.note}</span>
      <button
        type="button"
        className={asked ? 'button button-go' : 'button'}
        onClick={() => (asked ? removal.mutate(undefined, { onSuccess: onClose }) : setAsked(true))}
      >
        {asked ? remove.sure : remove.button}
      </button>
      <Refused error={removal.error} />
    </section>
  );
}
