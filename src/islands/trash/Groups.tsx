import { Fragment } from 'react';
import type { Amount, Level, TrashGroup, TrashState } from '../../contract/types';
import { useFigures } from '../../ui/api/account';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { go } from '../../ui/route';
import { text } from '../../ui/text';
import { count, daysUntil } from '../../ui/text/format';
import { useRun } from './useTrash';

/** The trash by what brought it there, each with the way back and the way out. */
export function Groups({ trash, level }: { trash: TrashState; level: Level }) {
  const { octets, dayAndTime } = useFigures();
  const { version } = level;
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
                [text.ledger.messages, 'number minor'],
                [text.ledger.bytes, 'number'],
                [text.trash.droppedIn, 'number minor'],
                ['', 'number'],
              ]}
            />
            <tbody>
              {trash.groups.map((group) => (
                <Fragment key={group.run ?? 0}>
                  <tr>
                    <td title={group.label ?? undefined}>
                      {group.run === null ? text.trash.byOthers : text.trash.byRun(group.run)}
                      {group.run !== null && group.last && <span className="minor">, {dayAndTime(group.last)}</span>}
                      {group.label && group.lots.length === 0 && (
                        <span className="minor block max-w-64 truncate text-ink-2">{group.label}</span>
                      )}
                    </td>
                    <td className="number minor">{count(group.messages)}</td>
                    <td className="number">{octets(group.bytes)}</td>
                    <td className="number minor text-ink-2">{droppedIn(group)}</td>
                    <td className="text-right md:whitespace-nowrap">
                      {group.run !== null && <Ways of={{ run: group.run }} amount={group} version={version} />}
                    </td>
                  </tr>
                  {group.lots.map((lot) => (
                    <tr key={lot.id}>
                      <td className="max-w-[110px] truncate pl-4 text-ink-2 md:max-w-64" title={lot.label}>
                        {lot.label}
                      </td>
                      <td className="number minor text-ink-2">{count(lot.messages)}</td>
                      <td className="number text-ink-2">{octets(lot.bytes)}</td>
                      <td className="minor" />
                      <td className="text-right md:whitespace-nowrap">
                        <Ways of={{ lots: [lot.id] }} amount={lot} version={version} />
                      </td>
                    </tr>
                  ))}
                </Fragment>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <p className="note mt-2">{text.trash.countsNote}</p>
    </section>
  );
}

/** Back to where it came from, or out for good. */
function Ways({
  of,
  amount: { messages, bytes },
  version,
}: {
  of: { run: number } | { lots: number[] };
  amount: Amount;
  version: number;
}) {
  const { octets } = useFigures();
  const run = useRun(() => go('/ledger'));
  const shown = text.messages(messages, count(messages));
  return (
    <>
      <button
        type="button"
        className="link"
        disabled={run.isPending}
        onClick={() => run.mutate({ action: 'restore', ...of })}
      >
        {'run' in of ? text.trash.undoRun : text.trash.undoLot}
      </button>
      {' · '}
      <Question
        title={text.trash.sure}
        sentence={text.trash.purgeText(shown, octets(bytes))}
        doIt={text.trash.purge(shown)}
        answer={messages}
        onDo={() => run.mutate({ action: 'purge', ...of, asOf: version, expect: { messages, bytes } })}
        trigger={
          <button type="button" className="link" disabled={run.isPending}>
            {text.trash.purgeIt}
          </button>
        }
      />
      {run.error && (
        <span role="alert" className="block text-left whitespace-normal text-go">
          {run.error.message}
        </span>
      )}
    </>
  );
}

/** `2 to 28 days`; nothing where it is not known. */
function droppedIn({ dropped }: TrashGroup): string {
  if (!dropped) return text.trash.notKnown;
  const [first, last] = [daysUntil(dropped.first), daysUntil(dropped.last)];
  return first === last ? text.trash.days(count(first), first) : text.trash.daysBetween(count(first), count(last));
}
