import { type FormEvent, useState } from 'react';
import type { HostMailbox, NewRound as NewRoundBody } from '../../../contract/types';
import { ROUND_KINDS, type RoundKind } from '../../../core/host/round';
import { go } from '../../../ui/route';
import { Sheet } from '../../../ui/Sheet';
import { Refused } from '../../../ui/State';
import { areReady, type EnteredTerms, enteredTerms, TermFields, termsOf } from '../../../ui/standing/TermFields';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';
import { Name } from '../columns';
import { isUrgent } from '../told';
import { useHostChange, useOperator } from '../useHost';
import type { WholeRound } from './useRounds';

/** Names that are shown of the mailboxes; the others are counted. */
const SHOWN = 12;

/** One decision for the mailboxes that are marked, or else for those that need something now. */
export function NewRound({
  mailboxes,
  marked,
  onClose,
}: {
  mailboxes: readonly HostMailbox[];
  marked: readonly HostMailbox[];
  onClose(): void;
}) {
  const { rounds } = text.host;
  const chosen = (marked.length > 0 ? marked : mailboxes.filter(isUrgent)).filter(({ way }) => way !== 'none');
  const [kind, setKind] = useState<RoundKind>(
    chosen.every(({ states }) => states.includes('left')) ? 'empty' : 'purge',
  );
  const [terms, setTerms] = useState<EnteredTerms>(() => enteredTerms());
  const [reason, setReason] = useState('');
  const { id } = useOperator();
  const begin = useHostChange<NewRoundBody, WholeRound>(() => '/rounds', 'POST');
  const isReady = chosen.length > 0 && reason.trim().length >= 3 && (kind !== 'standing' || areReady(terms));
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    if (!isReady) return;
    const form = new FormData(event.currentTarget);
    const all = { reason, mailboxes: chosen.map((mailbox) => mailbox.id) };
    const body: NewRoundBody =
      kind === 'empty'
        ? { kind, ...all }
        : kind === 'standing'
          ? { kind, terms: termsOf(terms, new Date().toISOString().slice(0, 10)), ...all }
          : {
              kind,
              terms: {
                days: Number(form.get('days')),
                trash: form.get('trash') !== null,
                junk: form.get('junk') !== null,
                byReceipt: form.get('byReceipt') !== null,
              },
              ...all,
            };
    begin.mutate(body, {
      onSuccess: ({ round }) => go(`/mailboxes?view=rounds&round=${round.id}&operator=${id}`),
    });
  };
  return (
    <Sheet title={rounds.make} open onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <section className="grid gap-1">
          <p className="font-semibold">
            {marked.length > 0
              ? rounds.forMarked(chosen.length, count(chosen.length))
              : rounds.forUrgent(chosen.length, count(chosen.length))}
          </p>
          <ul>
            {chosen.slice(0, SHOWN).map((mailbox) => (
              <li key={mailbox.id} className="truncate">
                <Name of={mailbox.user} />
              </li>
            ))}
          </ul>
          {chosen.length > SHOWN && <p className="note">{text.host.adding.more(count(chosen.length - SHOWN))}</p>}
          {marked.length > chosen.length && (
            <p className="note">{rounds.withoutPassword(count(marked.length - chosen.length))}</p>
          )}
        </section>
        <fieldset className="grid gap-2">
          <legend className="mb-1 font-semibold">{rounds.what}</legend>
          {ROUND_KINDS.map((each) => (
            <label key={each} className="grid grid-cols-[auto_1fr] gap-x-2">
              <input type="radio" name="kind" checked={kind === each} onChange={() => setKind(each)} />
              <span>{rounds.kinds[each]}</span>
              <span />
              <span className="note">{rounds.kindNotes[each]}</span>
            </label>
          ))}
        </fieldset>
        {kind === 'purge' && (
          <fieldset className="card grid gap-2">
            <legend className="sr-only">{rounds.kinds.purge}</legend>
            <label className="flex flex-wrap items-center gap-2">
              {rounds.longer}
              <input
                className="field w-20 text-right"
                name="days"
                type="number"
                min={0}
                max={3650}
                required
                defaultValue={30}
              />
              {text.standing.days}
            </label>
            {(['trash', 'junk'] as const).map((folder) => (
              <label key={folder}>
                <input type="checkbox" name={folder} defaultChecked /> {rounds.inFolder[folder]}
              </label>
            ))}
            <label>
              <input type="checkbox" name="byReceipt" /> {rounds.byReceipt}
            </label>
          </fieldset>
        )}
        {kind === 'standing' && (
          <TermFields entered={terms} onChange={(change) => setTerms((before) => ({ ...before, ...change }))} />
        )}
        <label className="grid gap-1">
          <span>{rounds.reason}</span>
          <input
            className="field"
            required
            minLength={3}
            maxLength={500}
            value={reason}
            onChange={({ target }) => setReason(target.value)}
          />
          <span className="note">{rounds.reasonNote}</span>
        </label>
        <Refused error={begin.error} />
        <button type="submit" className="button button-chief justify-self-start" disabled={!isReady || begin.isPending}>
          {rounds.tryFirst(count(chosen.length), chosen.length)}
        </button>
      </form>
    </Sheet>
  );
}
