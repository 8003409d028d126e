import { useFigures } from '../../ui/api/account';
import type { Level, TrashGroup, TrashState } from '../../ui/api/types';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { go } from '../../ui/route';
import { text } from '../../ui/text';
import { count, daysUntil } from '../../ui/text/format';
import { useRun } from './useTrash';

/** The trash by what brought it there, each with the way back and the way out. */
export function Groups({ trash, level }: { trash: TrashState; level: Level }) {
  return (
    <section className="card min-w-0">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.trash.title}</h2>
        <p className="note">{trash.days === null ? text.trash.daysUnknown : text.trash.daysKnown(trash.days)}</p>
      </div>
      {trash.groups.length === 0 ? (
        <p className="mt-2">{text.trash.empty}</p>
      ) : (
        <div className="max-h-[172px] overflow-auto">
          <table className="table">
            <Heads
              of={[
                [text.trash.wentIn],
                [text.ledger.messages, 'number'],
                [text.ledger.bytes, 'number'],
                [text.trash.droppedIn, 'number minor'],
                ['', 'number'],
              ]}
            />
            <tbody>
              {trash.groups.map((group) => (
                <Row key={group.run ?? 0} group={group} version={level.version} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      <p className="note mt-2">{text.trash.countsNote}</p>
    </section>
  );
}

function Row({ group, version }: { group: TrashGroup; version: number }) {
  const { octets, dayAndTime } = useFigures();
  const run = useRun();
  const messages = text.messages(group.messages, count(group.messages));
  return (
    <tr>
      <td title={group.label ?? undefined}>
        <span className="whitespace-nowrap">
          {group.run === null ? text.trash.byOthers : text.trash.byRun(group.run)}
        </span>
        {group.run !== null && group.last && <span className="minor">, {dayAndTime(group.last)}</span>}
        {group.label && <span className="minor block max-w-64 truncate text-ink-2">{group.label}</span>}
      </td>
      <td className="number">{count(group.messages)}</td>
      <td className="number">{octets(group.bytes)}</td>
      <td className="number minor text-ink-2">{droppedIn(group)}</td>
      <td className="number whitespace-nowrap">
        {group.run !== null && (
          <>
            <button
              type="button"
              className="link"
              disabled={run.isPending}
              onClick={() =>
                run.mutate({ action: 'restore', run: group.run as number }, { onSuccess: () => go('/ledger') })
              }
            >
              {text.trash.undoRun}
            </button>
            {' · '}
            <Question
              title={text.trash.sure}
              sentence={text.trash.purgeText(messages, octets(group.bytes))}
              doIt={text.trash.purge(messages)}
              answer={group.messages}
              onDo={() =>
                run.mutate(
                  {
                    action: 'purge',
                    run: group.run as number,
                    asOf: version,
                    expect: { messages: group.messages, bytes: group.bytes },
                  },
                  { onSuccess: () => go('/ledger') },
                )
              }
              trigger={
                <button type="button" className="link" disabled={run.isPending}>
                  {text.trash.purgeIt}
                </button>
              }
            />
          </>
        )}
        {run.error && (
          <span role="alert" className="block text-left whitespace-normal text-go">
            {run.error.message}
          </span>
        )}
      </td>
    </tr>
  );
}

/** `2 to 28 days`; nothing where it is not known. */
function droppedIn({ dropped }: TrashGroup): string {
  if (!dropped) return text.trash.notKnown;
  const [first, last] = [daysUntil(dropped.first), daysUntil(dropped.last)];
  return first === last ? text.trash.days(count(first), first) : text.trash.daysBetween(count(first), count(last));
}
