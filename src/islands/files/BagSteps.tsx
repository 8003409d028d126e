import { useState } from 'react';
import type { Bag, Lot } from '../../contract/types';
import { OF_THE_PLAN, useAccount, useChange, useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { HandIn } from '../../ui/copies/HandIn';
import { Question } from '../../ui/Question';
import { Link } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { Shrink } from './Shrink';
import { useSteering } from './Steering';
import { Step } from './Step';

/** What becomes of files that were saved: each step only for what passed the one before. */
export function BagSteps({ bag }: { bag: Bag }) {
  const { octets, day } = useFigures();
  const { base } = useAccount();
  const { going, links, refused } = useSteering(`/bags/${bag.id}`, 'bags', bag.state);
  const plan = useChange<undefined, Lot>(
    () => '/lots',
    'POST',
    () => ({ fate: 'strip', bag: bag.id, label: bag.label }),
    OF_THE_PLAN,
  );
  const [planned, setPlanned] = useState<Lot>();
  const erase = useChange<void>(
    () => `/bags/${bag.id}`,
    'DELETE',
    () => undefined,
    ['bags', 'lots', 'files'],
  );
  const left = bag.left.filter(({ reason }) => reason !== 'cancelled');
  const isDone = bag.state === 'done';
  const deletes = bag.form === 'mbox' ? text.files.deleteMail : text.files.deleteSentences[bag.place];
  return (
    <article className="grid gap-2">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="font-semibold wrap-anywhere">{text.files.bag(bag.id, bag.label)}</h2>
        <span className="note">
          {text.files.asked[bag.form](bag.asked.files, count(bag.asked.files), octets(bag.asked.bytes))}
        </span>
        <span className="ml-auto flex gap-3">
          {links}
          {isDone && (
            <Question
              title={text.files.deleteTitle}
              sentence={deletes(bag.saved.files, count(bag.saved.files))}
              prompt={text.files.deletePrompt}
              doIt={text.files.deleteIt}
              answer={bag.saved.files}
              onDo={() => erase.mutate()}
              trigger={
                <button type="button" className="link" disabled={erase.isPending}>
                  {text.files.deleteIt}
                </button>
              }
            />
          )}
        </span>
      </div>
      {going && <Bar share={bag.saved.files / Math.max(1, bag.asked.files)} />}
      {bag.problem && <p className="text-go">{bag.problem.detail}</p>}
      <ol className="grid grid-cols-3 gap-4 max-md:grid-cols-1">
        <Step number={1} name={text.files.save} note={text.files.saveNotes[bag.place]}>
          <strong>{text.files.ofAsked(count(bag.saved.files), count(bag.asked.files), octets(bag.saved.bytes))}</strong>
          {left.map(({ reason, files }) => (
            <span key={reason} className="block text-go">
              {text.files.left[reason](files, count(files))}
            </span>
          ))}
          {isDone && bag.place === 'download' && (
            <a className="button mt-1 block w-fit" href={`/api${base}/bags/${bag.id}/download`} download>
              {text.files.download}
            </a>
          )}
          {bag.keptUntil && <span className="note mt-1 block">{text.files.keptUntil(day(bag.keptUntil))}</span>}
        </Step>
        <Step number={2} name={text.files.check} note={text.files.checkNotes[bag.place]}>
          <strong>{text.files.ofSaved(count(bag.checked.files), count(bag.saved.files))}</strong>
          {isDone && bag.place === 'download' && <HandIn bag={bag} />}
        </Step>
        {bag.form === 'files' && (
          <Step number={3} name={text.files.strip} note={text.files.stripNote}>
            {planned ? (
              <Link className="link" to="/review">
                {text.files.inPlan(octets(planned.bytes))}
              </Link>
            ) : (
              <span className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
                <button
                  type="button"
                  className="button"
                  disabled={!isDone || bag.checked.files === 0 || plan.isPending}
                  onClick={() => plan.mutate(undefined, { onSuccess: setPlanned })}
                >
                  {text.files.addToPlan(bag.checked.files, count(bag.checked.files))}
                </button>
                {isDone && <Shrink bag={bag} onPlanned={setPlanned} />}
              </span>
            )}
            <Refused error={plan.error} />
          </Step>
        )}
      </ol>
      {refused}
      <Refused error={erase.error} />
    </article>
  );
}
