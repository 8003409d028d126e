import { useMemo, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { useChange, useFigures, useLevel } from '../../ui/api/account';
import type { Amount, Message, Run } from '../../ui/api/types';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { type Column, Grid } from '../../ui/grid/Grid';
import { everything, isEmpty, isMarked, keyMarks, type Marking, nothing } from '../../ui/grid/marking';
import { messageColumns } from '../../ui/messages/columns';
import { Look } from '../../ui/messages/Look';
import { markedAmount } from '../../ui/messages/marked';
import { useMessages } from '../../ui/messages/useMessages';
import { Question } from '../../ui/Question';
import { go, Link, useRoute, withState } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

type RunRequest = {
  label?: string;
  action: 'purge' | 'restore';
  expect: Amount;
  to?: string;
} & ({ where: string } | { ids: number[] });

const idOf = ({ id }: Message) => id;

function useRun() {
  return useChange<RunRequest, Run>(
    () => '/runs',
    'POST',
    (body) => body,
    ['runs', 'level', 'messages'],
  );
}

/** What lies in the trash and still counts: searched, taken back, purged. */
export default function Trash() {
  const route = useRoute();
  const where = route.search.get('where') ?? '';
  const level = useLevel().data;
  return (
    <>
      <h1 className="sr-only">{text.places.trash}</h1>
      {level && <Whole trash={level.trash} guarded={level.trashGuarded} />}
      <CriteriaFieldRow where={where} onChange={(next) => go(withState(route, { where: next }))} />
      {parseCriteria(where).ok && <Contents key={where} where={where} />}
    </>
  );
}

function CriteriaFieldRow({ where, onChange }: { where: string; onChange(where: string): void }) {
  return (
    <div className="flex">
      <CriteriaField value={where} placeholder={text.trash.placeholder} onChange={onChange} />
    </div>
  );
}

/** All of it but what guards keep, in one purge. */
function Whole({ trash, guarded }: { trash: Amount; guarded: Amount }) {
  const { octets } = useFigures();
  const run = useRun();
  const goes = { messages: trash.messages - guarded.messages, bytes: trash.bytes - guarded.bytes };
  const messages = text.messages(goes.messages, count(goes.messages));
  const sentence = text.trash.purgeText(messages, octets(goes.bytes));
  return (
    <div className="grid gap-[14px] md:grid-cols-[1.6fr_1fr]">
      <section className="card">
        <h2>{text.trash.title}</h2>
        <p className="figure mt-1">
          {text.trash.summary(text.messages(trash.messages, count(trash.messages)), octets(trash.bytes))}
        </p>
        <p className="note mt-1">{text.trash.countsNote}</p>
      </section>
      {goes.messages > 0 && (
        <section className="card border-go">
          <h2>{text.trash.purgeTitle}</h2>
          <p className="my-2">
            {sentence}{' '}
            {guarded.messages > 0 && (
              <Link to="/guards" className="link">
                {text.strip.guarded(text.messages(guarded.messages, count(guarded.messages)))}
              </Link>
            )}
          </p>
          <Question
            title={text.trash.sure}
            sentence={sentence}
            doIt={text.trash.purge(messages)}
            onDo={() =>
              run.mutate(
                { action: 'purge', label: text.trash.whole, where: 'not guarded', expect: goes },
                { onSuccess: () => go('/ledger') },
              )
            }
            trigger={
              <button type="button" className="button button-go" disabled={run.isPending}>
                {text.trash.purge(messages)}
              </button>
            }
          />
          {run.error && (
            <p role="alert" className="mt-2 text-go">
              {run.error.message}
            </p>
          )}
        </section>
      )}
    </div>
  );
}

function Contents({ where }: { where: string }) {
  const figures = useFigures();
  const [marking, setMarking] = useState<Marking<number>>(nothing());
  const [looked, setLooked] = useState<Message>();
  const [order, setOrder] = useState({ by: 'size', descends: true });
  const { rows, total, error, more, refetch } = useMessages({
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
  const act = (action: RunRequest['action']) => {
    // Everything that matches but some is named by ids only as far as it is loaded, so exceptions need all rows.
    const selector =
      marking.kind === 'all' && marking.except.size === 0
        ? { where }
        : { ids: rows.filter(({ id }) => isMarked(marking, id)).map(({ id }) => id) };
    run.mutate(
      { action, expect: marked, ...selector, ...(action === 'restore' ? { to } : {}) },
      { onSuccess: () => setMarking(nothing()) },
    );
  };
  const columns: Column<Message>[] = [
    ...messageColumns(figures, largest, 'silt'),
    {
      key: 'run',
      head: text.trash.byRun,
      width: '64px',
      minor: true,
      cell: ({ trashedBy }) => (
        <span className="text-ink-2">{trashedBy === null ? text.trash.others : text.trash.run(trashedBy)}</span>
      ),
    },
    {
      key: 'origin',
      head: text.trash.cameFrom,
      width: 'minmax(80px, 0.9fr)',
      minor: true,
      cell: ({ origin }) => <span className="text-ink-2">{origin ?? text.trash.unknown}</span>,
    },
  ];
  return (
    <section className="card flex min-h-0 min-w-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <p role="status">
          <strong>{text.sift.match(count(total.messages), figures.octets(total.bytes))}</strong>
        </p>
        <p role="status" className="ml-auto">
          {marked.messages > 0 ? (
            <strong>{text.sift.marked(count(marked.messages), figures.octets(marked.bytes))}</strong>
          ) : (
            <span className="text-ink-2">{text.sift.noneMarked}</span>
          )}
        </p>
        <span className="flex flex-wrap items-center gap-2">
          <button
            type="button"
            className="button"
            disabled={total.messages === 0}
            onClick={() => setMarking(isEmpty(marking) ? everything() : nothing())}
          >
            {isEmpty(marking) ? text.sift.markAll : text.sift.unmark}
          </button>
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
            onDo={() => act('purge')}
            trigger={
              <button type="button" className="button" disabled={marked.messages === 0 || run.isPending}>
                {text.trash.purgeMarked}
              </button>
            }
          />
        </span>
      </div>
      {run.error && (
        <p role="alert" className="mb-2 text-go">
          {run.error.message}
        </p>
      )}
      <Grid
        label={text.trash.label}
        columns={columns}
        count={rows.length}
        total={total.messages}
        rowAt={(index) => rows[index]}
        keyOf={idOf}
        marks={keyMarks(rows, idOf, marking, setMarking)}
        ordered={{
          ...order,
          change: (by) =>
            setOrder({ by, descends: by === order.by ? !order.descends : by === 'size' || by === 'date' }),
        }}
        onEnd={more}
        onOpen={(message) => setLooked(message)}
        onDelete={() => undefined}
        empty={where === '' ? text.trash.empty : text.sift.nothing}
      />
      <Look
        id={looked?.id}
        title={looked && (looked.subject || text.sift.noSubject)}
        onClose={() => setLooked(undefined)}
      />
    </section>
  );
}
