import { Fragment, useState } from 'react';
import type { Archive, Bag } from '../../contract/types';
import { OF_THE_PLAN, useChange, useFigures, useLots } from '../../ui/api/account';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { go, Link } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { BringIn, GoOn } from './BringIn';
import { Damage } from './Damage';
import { Hold } from './Hold';
import { SaveCopies } from './SaveCopies';
import { TakeCopy } from './TakeCopy';

/** Bags that are shown at once: the newest. */
const SHOWN = 6;

/** What lies in the archive, bag by bag, with what became of it in the mailbox. */
export function BagTable({ archive, bags }: { archive: Archive; bags: Bag[] }) {
  const { octets } = useFigures();
  const [all, setAll] = useState(false);
  const shown = all ? bags : bags.slice(0, SHOWN);
  const bytes = archive.bytes + archive.files.bytes;
  return (
    <section aria-label={text.archive.bags} className="card max-h-[45%] shrink-0 overflow-y-auto max-tank:max-h-none">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="font-semibold">
          {archive.messages + archive.files.files === 0
            ? text.archive.empty
            : text.archive.title(
                text.messages(archive.messages, count(archive.messages)),
                archive.files.files === 0 ? '' : text.archive.files(archive.files.files, count(archive.files.files)),
                octets(bytes),
              )}
        </h2>
        <span className="ml-auto flex flex-wrap gap-2">
          <BringIn />
          <SaveCopies />
          <ArchivePlan />
        </span>
      </div>
      {bags.length === 0 ? (
        <p>{text.archive.how}</p>
      ) : (
        <table className="table w-full">
          <Heads
            of={[
              [text.archive.bag, ''],
              [text.archive.made, 'minor'],
              [text.archive.messages, 'number'],
              [text.archive.bytes, 'number'],
              [text.archive.checked, 'minor'],
              [text.archive.heldUntil, 'minor'],
              [text.archive.inMailbox, 'minor'],
              ['', 'number'],
            ]}
          />
          <tbody>
            {shown.map((bag) => (
              <Fragment key={bag.id}>
                <BagRow bag={bag} />
                {bag.damaged.files + bag.tagsDamaged.length > 0 && (
                  <tr>
                    <td colSpan={8}>
                      <Damage bag={bag} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      )}
      {bags.length > SHOWN && (
        <button type="button" className="link mt-2" onClick={() => setAll(!all)}>
          {all ? text.archive.showFew : text.archive.showAll(count(bags.length))}
        </button>
      )}
      {bags.length > 0 && <p className="note mt-2">{text.archive.eachIs}</p>}
    </section>
  );
}

function BagRow({ bag }: { bag: Bag }) {
  const { octets, day, dayAndTime } = useFigures();
  const isDone = bag.state === 'done';
  const unsaved = bag.left.reduce((sum, { reason, files }) => (reason === 'cancelled' ? sum : sum + files), 0);
  return (
    <tr>
      <td className="max-w-64 wrap-anywhere" title={bag.folder}>
        <span className="font-semibold">{bag.label || text.archive.unnamed(bag.id)}</span>
        {unsaved > 0 && <span className="note block text-go">{text.archive.unsaved(unsaved, count(unsaved))}</span>}
        {isDone && bag.brought && <FoundIn brought={bag.brought} />}
        {bag.problem && <span className="block text-go">{bag.problem.detail}</span>}
      </td>
      <td className="minor text-ink-2 whitespace-nowrap">{day(bag.createdAt)}</td>
      <td className="number">
        {bag.form === 'files'
          ? text.archive.files(bag.saved.files, count(bag.saved.files))
          : isDone
            ? count(bag.saved.files)
            : bag.brought
              ? count(bag.saved.files)
              : text.archive.ofAsked(count(bag.saved.files), count(bag.asked.files))}
      </td>
      <td className="number whitespace-nowrap">{octets(bag.saved.bytes)}</td>
      <td className="minor whitespace-nowrap">
        {bag.readAgain !== null
          ? text.archive.reading(count(bag.readAgain), count(bag.saved.files))
          : bag.isReadAsked
            ? text.archive.readSoon
            : isDone && bag.checkedAt
              ? dayAndTime(bag.checkedAt)
              : stateOf(bag)}
      </td>
      <td className="minor whitespace-nowrap text-ink-2" title={bag.heldReason ?? undefined}>
        {bag.heldUntil ?? '–'}
      </td>
      <td className="minor">
        <InMailbox bag={bag} />
      </td>
      <td className="text-right md:whitespace-nowrap">{isDone ? <Ways bag={bag} /> : <Steer bag={bag} />}</td>
    </tr>
  );
}

/** What a bag that is not done is at. */
function stateOf({ state, brought }: Bag): string {
  const share = (part: number) => `${Math.floor(part * 100)} %`;
  if (brought && state === 'receiving') return text.archive.comingIn(share(brought.received / brought.size));
  if (brought && state === 'running') return text.archive.goneThrough(share(brought.done));
  return text.archive.states[state];
}

/** What was found in a file that was brought in, where not all of it is plain mail. */
function FoundIn({ brought: { flawed, passed, quoting } }: { brought: NonNullable<Bag['brought']> }) {
  const facts = [
    flawed > 0 ? text.archive.flawed(flawed, count(flawed)) : '',
    passed > 0 ? text.archive.passed(passed, count(passed)) : '',
    quoting === 'mboxo' || quoting === 'mboxcl' ? text.archive.inDoubt : '',
  ].filter(Boolean);
  return facts.length === 0 ? null : <span className="note block">{facts.join(' ')}</span>;
}

/** What became of a bag's messages in the mailbox. */
function InMailbox({ bag: { run, form, brought } }: { bag: Bag }) {
  if (brought) return <span className="wrap-anywhere text-ink-2">{text.archive.broughtFrom(brought.name)}</span>;
  if (form === 'files') return <Link to="/files">{text.archive.ofFiles}</Link>;
  if (!run) return <span className="text-ink-2">{text.archive.there}</span>;
  return (
    <Link to="/ledger" className="text-ink-2">
      {run.state === 'done' || run.state === 'cancelled'
        ? text.archive.moved(count(run.done.messages))
        : text.archive.byRun(run.id)}
    </Link>
  );
}

/** Work under way: a run steers its bag itself. */
function Steer({ bag }: { bag: Bag }) {
  const steer = useChange<string>(
    (verb) => `/bags/${bag.id}/${verb}`,
    'POST',
    () => ({}),
    ['bags'],
  );
  if (bag.run) return null;
  const rests = bag.state === 'paused' || bag.state === 'failed';
  const verbs = bag.state === 'receiving' ? (['cancel'] as const) : ([rests ? 'resume' : 'pause', 'cancel'] as const);
  return (
    <>
      <GoOn bag={bag} />
      {verbs.map((verb, index) => (
        <Fragment key={verb}>
          {index > 0 && ' · '}
          <button type="button" className="link" disabled={steer.isPending} onClick={() => steer.mutate(verb)}>
            {text.files.verbs[verb]}
          </button>
        </Fragment>
      ))}
      <Refused error={steer.error} />
    </>
  );
}

/** What can be done with a bag that is done. */
function Ways({ bag }: { bag: Bag }) {
  const read = useChange<void>(
    () => `/bags/${bag.id}/read`,
    'POST',
    () => ({}),
    ['bags'],
  );
  const back = useChange<void>(
    () => '/runs',
    'POST',
    () => ({ action: 'put-back', bag: bag.id, label: bag.label }),
    ['runs', 'level'],
    () => go('/ledger'),
  );
  const erase = useChange<void>(
    () => `/bags/${bag.id}`,
    'DELETE',
    () => undefined,
    ['bags', 'archive', 'messages', 'files', 'lots'],
  );
  const sentence = bag.form === 'mbox' ? text.files.deleteMail : text.files.deleteSentences.here;
  return (
    <>
      <button
        type="button"
        className="link"
        disabled={read.isPending || bag.isReadAsked || bag.readAgain !== null}
        onClick={() => read.mutate()}
      >
        {text.archive.check}
      </button>
      {' · '}
      <TakeCopy bag={bag} />
      {bag.form === 'mbox' && (
        <>
          {' · '}
          <button type="button" className="link" disabled={back.isPending} onClick={() => back.mutate()}>
            {text.archive.putBack}
          </button>
        </>
      )}
      {' · '}
      <Hold bag={bag} />
      {' · '}
      <Question
        title={text.archive.eraseTitle}
        sentence={sentence(bag.saved.files, count(bag.saved.files))}
        {...(bag.onlyHere.files > 0
          ? { note: text.archive.eraseNote(bag.onlyHere.files, count(bag.onlyHere.files)) }
          : {})}
        doIt={text.files.deleteIt}
        answer={bag.saved.files}
        onDo={() => erase.mutate()}
        trigger={
          <button type="button" className="link" disabled={erase.isPending}>
            {text.archive.erase}
          </button>
        }
      />
      <Refused error={read.error ?? back.error ?? erase.error} />
    </>
  );
}

/** Has lots of the plan that go to the trash archived first, and shows the plan. */
function ArchivePlan() {
  const lots = useLots().data?.lots.filter(({ fate, messages }) => fate === 'trash' && messages > 0) ?? [];
  const refate = useChange<number>(
    (lot) => `/lots/${lot}`,
    'PATCH',
    () => ({ fate: 'archive' }),
    OF_THE_PLAN,
  );
  if (lots.length === 0) return null;
  const archive = async () => {
    for (const { id } of lots) await refate.mutateAsync(id);
    go('/review');
  };
  return (
    <>
      <button
        type="button"
        className="button button-chief"
        disabled={refate.isPending}
        onClick={() => void archive().catch(() => undefined)}
      >
        {text.archive.archivePlan}
      </button>
      <Refused error={refate.error} />
    </>
  );
}
