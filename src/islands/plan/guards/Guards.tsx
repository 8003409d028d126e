import { useState } from 'react';
import type { Guard } from '../../../contract/types';
import { keepsInTrash } from '../../../core/guards/guards';
import { OF_THE_PLAN, useChange, useFigures, useGuards } from '../../../ui/api/account';
import { Heads } from '../../../ui/Heads';
import { Link } from '../../../ui/route';
import { Failed, Loading, Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';
import { PlanTabs } from '../PlanTabs';
import { Lift } from './Lift';
import { NewGuard } from './NewGuard';
import { nameOfGuard } from './nameOfGuard';

/** What is kept out of every lot, how much each keeps now, and the way to keep more. */
export default function Guards() {
  const guards = useGuards();
  const { octets } = useFigures();
  if (guards.error) return <Failed error={guards.error} retry={() => void guards.refetch()} />;
  if (!guards.data) return <Loading />;
  const { total } = guards.data;
  return (
    <>
      <PlanTabs />
      <section className="card">
        <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
          <h1 className="text-[13px]">{text.guards.title}</h1>
          <p role="status">
            <strong>
              {text.guards.total(text.messages(total.messages, count(total.messages)), octets(total.bytes))}
            </strong>
          </p>
        </div>
        <table className="table">
          <Heads
            of={[
              [text.guards.head.what],
              [text.guards.head.reason, 'minor'],
              [text.review.messages, 'number'],
              [text.review.bytes, 'number minor'],
              [''],
            ]}
          />
          <tbody>
            {guards.data.guards.map((guard) => (
              <Row key={guard.id} guard={guard} />
            ))}
          </tbody>
        </table>
        <p className="note mt-2">{text.guards.note}</p>
      </section>
      <NewGuard />
    </>
  );
}

function Row({ guard }: { guard: Guard }) {
  const { octets, day } = useFigures();
  const [lifting, setLifting] = useState(false);
  const name = nameOfGuard(guard);
  const turn = useChange<boolean>(
    () => `/guards/${guard.id}`,
    'PATCH',
    (active) => ({ active }),
    OF_THE_PLAN,
  );
  const remove = useChange<void>(
    () => `/guards/${guard.id}`,
    'DELETE',
    () => undefined,
    OF_THE_PLAN,
  );
  const own = guard.kind === 'criteria' || guard.kind === 'hold';
  return (
    <tr className={guard.active ? '' : 'text-ink-2'}>
      <td className={`wrap-anywhere ${own ? 'font-mono text-[12px]' : 'font-semibold'}`}>
        {name} {!keepsInTrash(guard.kind) && <span className="note font-sans">{text.guards.notInTrash}</span>}
      </td>
      <td className="minor wrap-anywhere">
        {guard.reason}{' '}
        {guard.liftedAt && (
          <span className="note">{text.guards.lifted(day(guard.liftedAt), guard.liftReason ?? '')}</span>
        )}
      </td>
      <td className="number">{guard.active ? count(guard.messages) : '–'}</td>
      <td className="number minor">{guard.active ? octets(guard.bytes) : '–'}</td>
      <td className="number">
        {guard.kind === 'hold' ? (
          guard.active && (
            <button
              type="button"
              className="link"
              onClick={() => setLifting(true)}
              aria-label={`${text.guards.lift}: ${name}`}
            >
              {text.guards.lift}
            </button>
          )
        ) : (
          <label className="inline-flex items-center gap-2">
            <input
              type="checkbox"
              checked={guard.active}
              disabled={turn.isPending}
              aria-label={text.guards.switch(name)}
              onChange={(event) => turn.mutate(event.target.checked)}
            />
            {guard.active ? text.guards.on : text.guards.off}
          </label>
        )}
        {own && guard.kind !== 'hold' && (
          <>
            {' · '}
            <button
              type="button"
              className="link"
              onClick={() => remove.mutate()}
              aria-label={`${text.guards.remove}: ${name}`}
            >
              {text.guards.remove}
            </button>
          </>
        )}
        {own && guard.where !== '' && (
          <>
            {' · '}
            <Link to={`/sift?where=${encodeURIComponent(guard.where)}`} className="link">
              {text.guards.show}
            </Link>
          </>
        )}
        <Refused error={turn.error ?? remove.error} />
        <Lift guard={guard} open={lifting} onClose={() => setLifting(false)} />
      </td>
    </tr>
  );
}
