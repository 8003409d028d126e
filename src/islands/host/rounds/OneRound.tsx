import { type FormEvent, useState } from 'react';
import type { Amount, Round, RoundMailbox } from '../../../contract/types';
import { isBeingTried, isOpenState } from '../../../core/host/round';
import { ApiProblem } from '../../../ui/api/call';
import { Heads } from '../../../ui/Heads';
import { Question } from '../../../ui/Question';
import { Failed, Loading, Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count, octets } from '../../../ui/text/format';
import { Name } from '../columns';
import { useHostChange, useHostMailboxes } from '../useHost';
import { amount, levelWithout, saysOfRound, saysOfState, titleOf } from './told';
import { useRound, type WholeRound } from './useRounds';

/** One round: the table of what would go from where, the question, and what came of it. */
export function OneRound({ id }: { id: number }) {
  const found = useRound(id);
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  return <Whole of={found.data} />;
}

function Whole({ of: { round, mailboxes } }: { of: WholeRound }) {
  const { rounds } = text.host;
  const ready = mailboxes.filter(({ state }) => state === 'ready');
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const chosen = ready.filter(({ mailbox }) => !left.has(mailbox));
  const asks = round.state === 'asking';
  const tried = mailboxes.filter(({ state }) => !isBeingTried(state)).length;
  const over = mailboxes.filter(({ state }) => !isOpenState(state)).length;
  const turn = (mailbox: number) =>
    setLeft((before) => {
      const next = new Set(before);
      if (!next.delete(mailbox)) next.add(mailbox);
      return next;
    });
  return (
    <section className="card grid gap-3" aria-labelledby="round">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="round">{titleOf(round)}</h2>
        <Stop round={round} isOver={over === mailboxes.length && round.on === 0} />
      </div>
      <p role="status">
        {round.state === 'trying'
          ? rounds.progress(count(tried), count(mailboxes.length))
          : asks
            ? rounds.nothingYet
            : saysOfRound(round)}
      </p>
      <p className="note wrap-anywhere">{rounds.because(round.reason)}</p>
      {asks && <Decision round={round} chosen={chosen} />}
      <Mailboxes round={round} mailboxes={mailboxes} left={left} onTurn={asks ? turn : undefined} />
    </section>
  );
}

/** Mailboxes that are shown, those with most to go first; the others are counted. */
const SHOWN = 1_000;

/** Columns besides the name and the state, by the kind of the round. */
function columnsOf(kind: Round['kind']): [string, (mailbox: RoundMailbox) => string][] {
  const { heads } = text.host.rounds;
  const number = (value: number | undefined) => (value ? count(value) : '–');
  if (kind === 'purge')
    return [
      [heads.fromTrash, ({ tried }) => (tried?.trash ? amount(tried.trash) : '–')],
      [heads.fromJunk, ({ tried }) => (tried?.junk ? amount(tried.junk) : '–')],
      [heads.kept, ({ tried }) => number(tried?.kept)],
      [heads.undated, ({ tried }) => number(tried?.undated)],
    ];
  if (kind === 'empty') return [[heads.stays, ({ tried }) => number(tried?.stays)]];
  return [
    [heads.monthly, ({ tried }) => (tried?.monthly ? amount(tried.monthly) : '–')],
    [heads.cared, ({ tried }) => number(tried?.cared)],
  ];
}

function Mailboxes({
  round: { kind, state },
  mailboxes,
  left,
  onTurn,
}: {
  round: Round;
  mailboxes: readonly RoundMailbox[];
  left: ReadonlySet<number>;
  onTurn: ((mailbox: number) => void) | undefined;
}) {
  const { heads, without } = text.host.rounds;
  const columns = columnsOf(kind);
  const shown = mailboxes.toSorted((a, b) => b.bytes - a.bytes || (a.user < b.user ? -1 : 1)).slice(0, SHOWN);
  const hosted = useHostMailboxes().data?.mailboxes;
  const levels = new Map(hosted?.map(({ id, measured }) => [id, measured]));
  // What a standing lot takes lies in the trash for a while.
  const tellsLevel = state === 'asking' && kind !== 'standing';
  const shownState = (mailbox: RoundMailbox) =>
    mailbox.problem ? (
      <span className={mailbox.state === 'failed' ? 'text-go' : ''}>{mailbox.problem.detail}</span>
    ) : (
      saysOfState(mailbox.state, kind)
    );
  return (
    <div className="overflow-x-auto">
      <table className="table">
        <Heads
          of={[
            ...(onTurn ? [['', 'w-6'] as const] : []),
            [heads.mailbox, ''],
            [kind === 'standing' ? heads.takesNow : kind === 'empty' ? heads.everything : heads.goes, 'number'],
            ...columns.map(([head]) => [head, 'number max-md:hidden'] as const),
            ...(tellsLevel ? [[heads.level, 'number'] as const] : []),
            ...(state === 'trying' || state === 'asking' || kind === 'standing'
              ? []
              : [[heads.went, 'number'] as const]),
            [heads.state, ''],
          ]}
        />
        <tbody>
          {shown.map((mailbox) => (
            <tr key={mailbox.mailbox} className={left.has(mailbox.mailbox) ? 'text-ink-2' : ''}>
              {onTurn && (
                <td>
                  {mailbox.state === 'ready' && (
                    <input
                      type="checkbox"
                      aria-label={without(mailbox.user)}
                      checked={!left.has(mailbox.mailbox)}
                      onChange={() => onTurn(mailbox.mailbox)}
                    />
                  )}
                </td>
              )}
              <td className="wrap-anywhere">
                <Name of={mailbox.user} />
              </td>
              <td className="number">{amount(mailbox)}</td>
              {columns.map(([head, cell]) => (
                <td key={head} className="number max-md:hidden">
                  {cell(mailbox)}
                </td>
              ))}
              {tellsLevel && <td className="number">{levelWithout(levels.get(mailbox.mailbox), mailbox)}</td>}
              {state !== 'trying' && state !== 'asking' && kind !== 'standing' && (
                <td className="number">{amount(mailbox.done)}</td>
              )}
              <td>{shownState(mailbox)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {mailboxes.length > SHOWN && (
        <p className="note mt-2">{text.host.adding.more(count(mailboxes.length - SHOWN))}</p>
      )}
    </div>
  );
}

/** The question: once, for all that are chosen. */
function Decision({ round, chosen }: { round: Round; chosen: readonly RoundMailbox[] }) {
  const { rounds } = text.host;
  const decide = useHostChange<{ mailboxes: number[]; expect: Amount; password?: string }>(
    () => `/rounds/${round.id}/carry-out`,
    'POST',
  );
  const expect = chosen.reduce(
    (sum, { messages, bytes }) => ({ messages: sum.messages + messages, bytes: sum.bytes + bytes }),
    { messages: 0, bytes: 0 },
  );
  const send = (more: { password?: string } = {}) =>
    decide.mutate({ mailboxes: chosen.map(({ mailbox }) => mailbox), expect, ...more });
  const wantsPassword = decide.error instanceof ApiProblem && decide.error.type.endsWith('prove-again');
  const isRefused = decide.error instanceof ApiProblem && decide.error.errors.some(({ field }) => field === 'password');
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    send({ password: `${new FormData(event.currentTarget).get('password')}` });
  };
  if (chosen.length === 0) return <p className="note">{rounds.noneChosen}</p>;
  const mailboxes = count(chosen.length);
  return (
    <div className="grid justify-items-start gap-2">
      {round.kind === 'standing' ? (
        <>
          <p>
            {text.standing.wouldTake(
              text.messages(expect.messages, count(expect.messages)),
              octets(expect.bytes, 'binary'),
            )}
          </p>
          <button type="button" className="button button-chief" disabled={decide.isPending} onClick={() => send()}>
            {rounds.start(chosen.length, mailboxes)}
          </button>
        </>
      ) : (
        <Question
          title={rounds.sure[round.kind]}
          sentence={rounds.sentence[round.kind](
            text.messages(expect.messages, count(expect.messages)),
            octets(expect.bytes, 'binary'),
            chosen.length,
            mailboxes,
          )}
          doIt={rounds.doIt[round.kind]}
          answer={expect.messages}
          onDo={() => send()}
          trigger={
            <button type="button" className="button button-go" disabled={decide.isPending}>
              {rounds.button[round.kind](
                text.messages(expect.messages, count(expect.messages)),
                octets(expect.bytes, 'binary'),
                chosen.length,
                mailboxes,
              )}
            </button>
          }
        />
      )}
      {wantsPassword || isRefused ? (
        <form className="flex flex-wrap items-end gap-2" onSubmit={submit}>
          <label className="grid gap-1">
            <span className="note">{rounds.password}</span>
            <input className="field" name="password" type="password" required autoComplete="current-password" />
          </label>
          <button type="submit" className="button button-go" disabled={decide.isPending}>
            {rounds.goOn}
          </button>
        </form>
      ) : null}
      {!wantsPassword && <Refused error={decide.error} />}
    </div>
  );
}

function Stop({ round, isOver }: { round: Round; isOver: boolean }) {
  const { rounds } = text.host;
  const [asked, setAsked] = useState(false);
  const stop = useHostChange<object>(() => `/rounds/${round.id}/stop`, 'POST');
  if (round.state === 'stopped' || isOver) return null;
  const isUndecided = round.state === 'trying' || round.state === 'asking';
  return (
    <span className="flex items-baseline gap-2">
      <Refused error={stop.error} />
      <button
        type="button"
        className={`button ${asked && !isUndecided ? 'button-go' : ''}`}
        disabled={stop.isPending}
        onClick={() => (isUndecided || asked ? stop.mutate({}) : setAsked(true))}
      >
        {isUndecided ? rounds.drop : asked ? rounds.stopSure : rounds.stop}
      </button>
    </span>
  );
}
