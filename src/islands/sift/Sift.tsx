import { useMemo, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { useChange, useFigures, useScan } from '../../ui/api/account';
import type { Lot, Message } from '../../ui/api/types';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { type Column, Grid } from '../../ui/grid/Grid';
import { everything, isEmpty, type Marking, nothing } from '../../ui/grid/marking';
import { attached, messageColumns } from '../../ui/messages/columns';
import { Look } from '../../ui/messages/Look';
import { markedAmount, markedSelector } from '../../ui/messages/marked';
import { useMessages } from '../../ui/messages/useMessages';
import { go, useRoute, withState } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { ControlPanel } from './ControlPanel';

const DESCENDS = new Set(['size', 'date']);

/** The workbench: messages narrowed, marked, and taken into the plan. */
export default function Sift() {
  const route = useRoute();
  const { search } = route;
  const where = search.get('where') ?? '';
  const order = search.get('order') ?? 'size';
  const direction = search.get('direction') ?? (DESCENDS.has(order) ? 'down' : 'up');
  const readable = parseCriteria(where).ok;
  const setWhere = (next: string) => go(withState(route, { where: next }));
  return (
    <>
      <h1 className="sr-only">{text.places.sift}</h1>
      <div className="flex items-start gap-3">
        <CriteriaField value={where} placeholder={text.sift.placeholder} onChange={setWhere} />
        <button type="button" className="button" disabled={where === ''} onClick={() => setWhere('')}>
          {text.sift.clear}
        </button>
      </div>
      <div className="flex min-h-0 flex-1 flex-col gap-[14px] lg:flex-row">
        <ControlPanel where={where} onChange={setWhere} />
        {readable && <Results key={where} where={where} order={order} direction={direction} />}
      </div>
    </>
  );
}

function Results({ where, order, direction }: { where: string; order: string; direction: string }) {
  const route = useRoute();
  const figures = useFigures();
  const scan = useScan().data;
  const [marking, setMarking] = useState<Marking<number>>(nothing());
  const [looked, setLooked] = useState<Message>();
  const { rows, total, error, more, refetch } = useMessages({ where, scope: 'mail', order, direction });
  const add = useChange<{ where: string; except: number[] } | { ids: number[] }, Lot>(
    () => '/lots',
    'POST',
    (selector) => selector,
    ['lots', 'level'],
  );
  const largest = useMemo(() => rows.reduce((most, { size }) => Math.max(most, size), 1), [rows]);
  if (error) return <Failed error={error} retry={() => void refetch()} />;
  if (!total) return <Loading />;
  const marked = markedAmount(marking, rows, total);
  const addMarked = () => {
    if (!isEmpty(marking) && marked.messages > 0)
      add.mutate(markedSelector(marking, where), { onSuccess: () => setMarking(nothing()) });
  };
  const changeOrder = (by: string) => {
    const usual = DESCENDS.has(by) ? 'down' : 'up';
    const next = by === order ? (direction === 'down' ? 'up' : 'down') : usual;
    go(withState(route, { order: by === 'size' ? '' : by, direction: next === usual ? '' : next }), true);
  };
  const columns: Column<Message>[] = [
    ...messageColumns(figures, largest, 'water'),
    {
      key: 'folder',
      head: text.look.folder,
      width: 'minmax(70px, 0.8fr)',
      minor: true,
      cell: ({ folder }) => <span className="text-ink-2">{folder}</span>,
    },
    {
      key: 'attached',
      head: text.sift.attached,
      width: '92px',
      minor: true,
      cell: (message) => <span className="text-ink-2">{attached(message)}</span>,
    },
  ];
  return (
    <section className="card flex min-h-0 min-w-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <p role="status">
          <strong>{text.sift.match(count(total.messages), figures.octets(total.bytes))}</strong>
        </p>
        <p role="status" className="ml-auto" aria-live="polite">
          {marked.messages > 0 ? (
            <strong>{text.sift.marked(count(marked.messages), figures.octets(marked.bytes))}</strong>
          ) : (
            <span className="text-ink-2">{text.sift.noneMarked}</span>
          )}
          {marking.kind === 'all' && marking.except.size > 0 && (
            <span className="text-ink-2"> {text.sift.excepted(count(marking.except.size))}</span>
          )}
        </p>
        <span className="flex flex-wrap gap-2">
          {isEmpty(marking) ? (
            <button
              type="button"
              className="button"
              disabled={total.messages === 0}
              onClick={() => setMarking(everything())}
            >
              {text.sift.markAll}
            </button>
          ) : (
            <button type="button" className="button" onClick={() => setMarking(nothing())}>
              {text.sift.unmark}
            </button>
          )}
          <button
            type="button"
            className="button button-chief"
            disabled={marked.messages === 0 || add.isPending}
            onClick={addMarked}
          >
            {text.sift.add}
          </button>
        </span>
      </div>
      {add.error && (
        <p role="alert" className="mb-2 text-go">
          {add.error.message}
        </p>
      )}
      <Grid
        label={text.sift.label}
        columns={columns}
        rows={rows}
        total={total.messages}
        keyOf={(message: Message) => message.id}
        marking={marking}
        onMark={setMarking}
        ordered={{ by: order, descends: direction === 'down', change: changeOrder }}
        onEnd={more}
        onOpen={(message) => setLooked(message)}
        onDelete={addMarked}
        empty={scan?.state === 'running' || scan?.state === 'queued' ? text.sift.filling : text.sift.nothing}
      />
      <p className="note mt-2">{add.data && isEmpty(marking) ? text.sift.added(add.data.label) : text.sift.keys}</p>
      <Look message={looked} onClose={() => setLooked(undefined)} />
    </section>
  );
}
