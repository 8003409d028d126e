import { useMemo, useState } from 'react';
import type { Message } from '../../contract/types';
import { useFigures, useLevel } from '../../ui/api/account';
import { type Column, Grid } from '../../ui/grid/Grid';
import { isMarked, keyMarks, type Marking, nothing } from '../../ui/grid/marking';
import { messageColumns } from '../../ui/messages/columns';
import { MarkingBar } from '../../ui/messages/MarkingBar';
import { MessagePreview } from '../../ui/messages/MessagePreview';
import { markedAmount } from '../../ui/messages/marked';
import { useMessages } from '../../ui/messages/useMessages';
import { Question } from '../../ui/Question';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, daysUntil } from '../../ui/text/format';
import { type RunRequest, useRun } from './useTrash';

const DAY_MS = 86_400_000;
const idOf = ({ id }: Message) => id;

/** Orders that begin at the large or new end. */
const DESCENDING = new Set(['size', 'placed']);

/** The messages of the trash that match, to be marked, taken back or purged. */
export function Contents({ where, days }: { where: string; days: number | null }) {
  const figures = useFigures();
  const [marking, setMarking] = useState<Marking<number>>(nothing());
  const [looked, setLooked] = useState<Message>();
  const [order, setOrder] = useState({ by: 'size', descends: true });
  const { rows, total, version, error, more, refetch } = useMessages({
    where,
    scope: 'trash',
    order: order.by,
    direction: order.descends ? 'down' : 'up',
  });
  const largest = useMemo(() => rows.reduce((most, { size }) => Math.max(most, size), 1), [rows]);
  const run = useRun();
  const level = useLevel().data;
  const [to, setTo] = useState('INBOX');
  if (error) return <Failed error={error} retry={() => void refetch()} />;
  if (!total) return <Loading />;
  const marked = markedAmount(marking, rows, total);
  const messages = text.messages(marked.messages, count(marked.messages));
  const ofUnknownOrigin = rows.some((message) => message.origin === null && isMarked(marking, message.id));
  const act = (action: RunRequest['action']) => {
    // Everything that matches but some is named by ids only as far as it is loaded, so exceptions need all rows.
    const selector =
      marking.kind === 'all' && marking.except.size === 0
        ? { where }
        : { ids: rows.filter(({ id }) => isMarked(marking, id)).map(({ id }) => id) };
    run.mutate(
      {
        action,
        expect: marked,
        ...selector,
        ...(action === 'restore' ? { to } : {}),
        ...(action === 'purge' && version !== undefined ? { asOf: version } : {}),
      },
      { onSuccess: () => setMarking(nothing()) },
    );
  };
  return (
    <section className="card flex min-h-64 min-w-0 flex-1 flex-col">
      <MarkingBar total={total} marked={marked} marking={marking} mark={setMarking}>
        {ofUnknownOrigin && (
          <label className="note flex items-center gap-1">
            <span className="whitespace-nowrap">{text.trash.to}</span>
            <select className="field w-28" value={to} onChange={(event) => setTo(event.target.value)}>
              {level?.folders
                .filter(({ repeats, role }) => !repeats && role !== 'trash')
                .map(({ path }) => (
                  <option key={path}>{path}</option>
                ))}
            </select>
          </label>
        )}
        <button
          type="button"
          className="button button-chief"
          disabled={marked.messages === 0 || run.isPending}
          onClick={() => act('restore')}
        >
          {text.trash.takeBack}
        </button>
        <Question
          title={text.trash.sure}
          sentence={text.trash.purgeText(messages, figures.octets(marked.bytes))}
          doIt={text.trash.purge(messages)}
          answer={marked.messages}
          onDo={() => act('purge')}
          trigger={
            <button type="button" className="button" disabled={marked.messages === 0 || run.isPending}>
              {text.trash.purgeMarked}
            </button>
          }
        />
      </MarkingBar>
      {run.error && (
        <p role="alert" className="mb-2 text-go">
          {run.error.message}
        </p>
      )}
      <Grid
        label={text.trash.label}
        columns={trashColumns(figures, largest, days)}
        count={rows.length}
        total={total.messages}
        rowAt={(index) => rows[index]}
        keyOf={idOf}
        marks={keyMarks(rows, idOf, marking, setMarking)}
        ordered={{
          ...order,
          change: (by) => setOrder({ by, descends: by === order.by ? !order.descends : DESCENDING.has(by) }),
        }}
        onEnd={more}
        onOpen={(message) => setLooked(message)}
        onDelete={() => undefined}
        empty={where === '' ? text.trash.empty : text.sift.nothing}
      />
      <MessagePreview
        id={looked?.id}
        title={looked && (looked.subject || text.sift.noSubject)}
        onClose={() => setLooked(undefined)}
      />
    </section>
  );
}

/** Instead of the date of the message, when it went in and how long it stays. */
function trashColumns(figures: ReturnType<typeof useFigures>, largest: number, days: number | null): Column<Message>[] {
  const times: Column<Message>[] = [
    {
      key: 'placed',
      head: text.trash.inSince,
      width: '84px',
      order: 'placed',
      minor: true,
      cell: ({ placedAt }) => (
        <span className="text-ink-2">{placedAt ? figures.day(placedAt) : text.trash.notKnown}</span>
      ),
    },
    {
      key: 'dropped',
      head: text.trash.droppedIn,
      width: '70px',
      align: 'right',
      minor: true,
      cell: ({ placedAt }) => (
        <span className="text-ink-2">
          {placedAt && days !== null
            ? text.trash.shortDays(count(daysUntil(new Date(Date.parse(placedAt) + days * DAY_MS).toISOString())))
            : ''}
        </span>
      ),
    },
  ];
  return [
    ...messageColumns(figures, largest, 'silt').flatMap((column) => (column.key === 'date' ? times : column)),
    {
      key: 'run',
      head: text.trash.by,
      width: '58px',
      minor: true,
      cell: ({ trashedBy }) => (
        <span className="text-ink-2">{trashedBy === null ? text.trash.others : text.trash.run(trashedBy)}</span>
      ),
    },
    {
      key: 'origin',
      head: text.trash.cameFrom,
      width: 'minmax(80px, 0.7fr)',
      minor: true,
      cell: ({ origin }) => <span className="text-ink-2">{origin ?? text.trash.unknown}</span>,
    },
  ];
}
