import type { Amount, Level, Lot } from '../../../contract/types';
import { missingAfter } from '../../../core/level/gauge';
import { freeFolders } from '../../../core/mailbox/folders';
import { LITTLE } from '../../../core/plan/suggestions';
import { OF_THE_PLAN, useChange, useFigures, useLevel, useLots, usePlan } from '../../../ui/api/account';
import { REPEATS_STALE, useProvenCopies } from '../../../ui/api/repeats';
import { useAsked } from '../../../ui/columns/useAsked';
import { Link } from '../../../ui/route';
import { Failed, Loading, Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count, percent } from '../../../ui/text/format';
import { PlanTabs } from '../PlanTabs';
import { Decision } from './Decision';
import { Winnings } from './Winnings';

/** The fewest decisions that reach the target, each to be taken or dismissed; anew after every one. */
export default function Suggestions() {
  const level = useLevel();
  const plan = usePlan();
  const lots = useLots();
  const missing = level.data ? missingAfter(level.data) : null;
  const of = missing && 'messages' in missing ? 'messages' : 'bytes';
  const { data, error, ask } = useAsked(
    'suggest',
    level.data && plan.data
      ? { plan: plan.data, missing, free: freeFolders(level.data.folders).map(({ path }) => path) }
      : undefined,
  );
  const failed = level.error ?? plan.error ?? lots.error ?? error;
  if (failed) return <Failed error={failed} retry={() => void (error ? ask() : level.refetch())} />;
  if (!level.data || !plan.data || !lots.data) return <Loading />;
  return (
    <>
      <PlanTabs />
      <Goal level={level.data} plan={lots.data.lots} />
      {data === undefined && <Loading />}
      {data === null && (
        <p role="status" className="p-4 text-ink-2">
          {text.suggestions.waiting}
        </p>
      )}
      {data && (
        <div className="grid gap-[14px] xl:grid-cols-[minmax(0,1fr)_340px]">
          <section className="card min-w-0">
            <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
              <h2>
                {text.suggestions.decisions(data.suggestions.length, count(data.suggestions.length))}
                {data.reach !== null &&
                  data.reach > 0 &&
                  `, ${text.suggestions.reachIn(data.reach, count(data.reach))}`}
              </h2>
              <Dismissed keys={plan.data.dismissed} />
            </div>
            {data.suggestions.length > 0 && (
              <p className="note mb-2">
                {text.suggestions.stop[data.stop.why](count(data.stop.after), percent(LITTLE))}
              </p>
            )}
            {data.suggestions.length === 0 ? (
              <p className="py-4 text-ink-2">{text.suggestions.none}</p>
            ) : (
              <ol data-suggestions={data.suggestions.length}>
                {data.suggestions.map((suggestion, index) => (
                  <Decision
                    key={suggestion.key}
                    suggestion={suggestion}
                    place={index + 1}
                    of={of}
                    most={Math.max(...data.suggestions.map(({ adds }) => adds[of]))}
                    beyond={index >= data.stop.after}
                    reaches={data.reach === index + 1}
                  />
                ))}
              </ol>
            )}
          </section>
          <Winnings suggestions={data} missing={missing} />
        </div>
      )}
    </>
  );
}

/** What must still go, and the trash, which costs no decision. */
function Goal({ level, plan }: { level: Level; plan: Lot[] }) {
  const { octets } = useFigures();
  const missing = missingAfter(level);
  const take = useChange<void>(
    () => '/lots',
    'POST',
    () => ({ where: '', scope: 'trash', fate: 'purge', label: text.places.trash, suggestion: 'trash' }),
    OF_THE_PLAN,
  );
  const inTrash: Amount = {
    messages: level.trash.messages - level.trashGuarded.messages,
    bytes: level.trash.bytes - level.trashGuarded.bytes,
  };
  const said =
    missing === null
      ? text.suggestions.noTarget
      : ('bytes' in missing ? missing.bytes : missing.messages) === 0
        ? text.suggestions.reached
        : text.suggestions.need(
            'bytes' in missing ? octets(missing.bytes) : text.messages(missing.messages, count(missing.messages)),
          );
  return (
    <section className="card">
      <h1 className="text-[15px]">{text.suggestions.title}</h1>
      <p role="status">
        <strong>{said}</strong>
      </p>
      {inTrash.messages > 0 && (
        <p className="flex flex-wrap items-center gap-3">
          <span className="text-ink-2">
            {text.suggestions.trash(text.messages(inTrash.messages, count(inTrash.messages)), octets(inTrash.bytes))}
          </span>
          {!plan.some(({ suggestion }) => suggestion === 'trash') && (
            <button type="button" className="link" disabled={take.isPending} onClick={() => take.mutate()}>
              {text.suggestions.purgeTrash}
            </button>
          )}
        </p>
      )}
      <Copies />
      <Refused error={take.error} />
    </section>
  );
}

/** What was proven to exist more than once costs no decision either: one of each stays. */
function Copies() {
  const proven = useProvenCopies().data;
  if (!proven) return null;
  const { twins, files } = proven;
  return (
    <>
      {twins.going.messages > 0 && (
        <ProvenLine
          path="/repeats/lots"
          lot={{ expect: twins.going, label: text.repeats.lot }}
          says={(bytes) =>
            text.suggestions.copies(text.repeats.copies(twins.going.messages, count(twins.going.messages)), bytes)
          }
          bytes={twins.going.bytes}
        />
      )}
      {files.going.files > 0 && (
        <ProvenLine
          path="/repeats/files/lots"
          lot={{ expect: files.going, label: text.repeats.fileLot }}
          says={(bytes) => text.suggestions.filesAgain(files.going.files, count(files.going.files), bytes)}
          bytes={files.going.bytes}
        />
      )}
    </>
  );
}

function ProvenLine({
  path,
  lot,
  says,
  bytes,
}: {
  path: string;
  lot: object;
  says(bytes: string): string;
  bytes: number;
}) {
  const { octets } = useFigures();
  const take = useChange<void>(
    () => path,
    'POST',
    () => lot,
    REPEATS_STALE,
  );
  return (
    <>
      <p className="flex flex-wrap items-center gap-3">
        <span className="text-ink-2">{says(octets(bytes))}</span>
        <button type="button" className="link" disabled={take.isPending} onClick={() => take.mutate()}>
          {text.suggestions.takeCopies}
        </button>
        <Link to="/repeats" className="link">
          {text.suggestions.lookAtCopies}
        </Link>
      </p>
      <Refused error={take.error} />
    </>
  );
}

function Dismissed({ keys }: { keys: string[] }) {
  const again = useChange<void>(
    () => '/suggestions/dismissed',
    'DELETE',
    () => undefined,
    ['plan'],
  );
  if (keys.length === 0) return null;
  return (
    <p className="note">
      {text.suggestions.dismissed(keys.length, count(keys.length))}{' '}
      <button type="button" className="link" onClick={() => again.mutate()}>
        {text.suggestions.again}
      </button>
    </p>
  );
}
