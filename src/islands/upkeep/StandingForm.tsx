import { type FormEvent, useState } from 'react';
import type { StandingLot } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { STANDING_STALE } from '../../ui/api/standing';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { areReady, type EnteredTerms, enteredTerms, TermFields, termsOf } from '../../ui/standing/TermFields';
import { text } from '../../ui/text';

/** Says what goes by itself. What is said is tried on the past before anything goes. */
export function StandingForm({
  lot,
  where = '',
  onClose,
  onMade,
}: {
  lot?: StandingLot;
  /** Criteria to begin with. */
  where?: string;
  onClose(): void;
  onMade(made: StandingLot): void;
}) {
  const { day } = useFigures();
  const [entered, setEntered] = useState(() => enteredTerms(lot, where));
  const [mail, setMail] = useState(lot?.mail ?? false);
  const set = (change: Partial<EnteredTerms>) => setEntered((before) => ({ ...before, ...change }));
  const save = useChange<void, StandingLot>(
    () => (lot ? `/standing-lots/${lot.id}` : '/standing-lots'),
    lot ? 'PATCH' : 'POST',
    () => ({ ...termsOf(entered, lot?.rhythm.from ?? day(new Date().toISOString())), mail }),
    STANDING_STALE,
    onMade,
  );
  const isReady = areReady(entered);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (isReady) save.mutate();
  };
  return (
    <Sheet open title={lot ? text.standing.change : text.standing.make} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <TermFields entered={entered} onChange={set} />
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={mail} onChange={({ target }) => setMail(target.checked)} />
          {text.standing.mail}
        </label>
        <p className="note">{text.standing.guards}</p>
        <div>
          <button type="submit" className="button button-chief" disabled={!isReady || save.isPending}>
            {save.isPending ? text.standing.trying : text.standing.tryIt}
          </button>
        </div>
        <Refused error={save.error} />
      </form>
    </Sheet>
  );
}
