import { useMemo, useState } from 'react';
import type { Bag, Lot, Message } from '../../contract/types';
import { FILE_KINDS } from '../../core/files/kinds';
import { useChange, useFigures, useScan } from '../../ui/api/account';
import type { ColumnsClient } from '../../ui/columns/client';
import { type Column, Grid, markColumn } from '../../ui/grid/Grid';
import { MarkedBar, workerMarks } from '../../ui/grid/MarkedBar';
import { attached, lengthColumn } from '../../ui/messages/columns';
import { MessagePreview } from '../../ui/messages/MessagePreview';
import { useDetails } from '../../ui/messages/useDetails';
import { AddToPlan } from '../../ui/plan/AddToPlan';
import { Link } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { ListOrder, ListRow, ListWindow, MarkedSelector, Marking, Narrowed } from '../../workers/protocol';

/** Rows kept ready above and below those in view. */
const MARGIN = 20;

const idOf = ({ id }: ListRow) => id;

/** The messages that match, in any order, with what is marked and the way into the plan. */
export function MessageList({
  narrowed,
  client,
  view,
  onView,
  onOrder,
  ask,
}: {
  narrowed: Narrowed;
  client: ColumnsClient;
  view: ListWindow;
  onView(first: number, count: number): void;
  onOrder(by: string): void;
  ask(): void;
}) {
  const figures = useFigures();
  const scan = useScan().data;
  const [looked, setLooked] = useState<ListRow>();
  const { rows, first, total, marked } = narrowed;
  const details = useDetails(useMemo(() => rows.map(idOf), [rows]));
  const add = useChange<MarkedSelector & { fate: 'trash' | 'archive' }, Lot>(
    () => '/lots',
    'POST',
    (selector) => selector,
    ['lots', 'level'],
  );
  const save = useChange<Omit<MarkedSelector, 'expect'>, Bag>(
    () => '/bags',
    'POST',
    (selector) => ({ place: 'here', what: 'mail', ...selector }),
    ['bags'],
  );
  const saveMarked = async () => {
    const { expect, ...selector } = await client.call('selector', null);
    if (expect.messages > 0) save.mutate(selector);
  };
  const mark = async (marking: Marking) => {
    await client.call('mark', marking);
    ask();
  };
  const addMarked = async (fate: 'trash' | 'archive') => {
    if (add.isPending) return;
    // The worker knows what is marked even where keys were quicker than the page.
    const selector = await client.call('selector', null);
    if (selector.expect.messages === 0) return;
    add.mutate({ ...selector, fate }, { onSuccess: () => void mark({ kind: 'none' }) });
  };
  const largest = useMemo(() => rows.reduce((most, { size }) => Math.max(most, size), 1), [rows]);
  const columns = useMemo(() => columnsOf(figures, largest, details), [figures, largest, details]);
  const filling = scan?.state === 'running' || scan?.state === 'queued';
  return (
    <section className="card flex min-h-64 min-w-0 flex-1 flex-col">
      <MarkedBar
        match={text.sift.match(count(total.messages), figures.octets(total.bytes))}
        matching={total.messages}
        everything={narrowed.everything.messages}
        marked={marked}
        mark={(marking) => void mark(marking)}
      >
        <button
          type="button"
          className="button"
          disabled={marked.messages === 0 || save.isPending}
          onClick={() => void saveMarked()}
        >
          {text.files.saveMessages}
        </button>
        <button
          type="button"
          className="button"
          disabled={marked.messages === 0 || add.isPending}
          onClick={() => void addMarked('archive')}
        >
          {text.sift.addArchived}
        </button>
        <AddToPlan disabled={marked.messages === 0 || add.isPending} onAdd={() => void addMarked('trash')} />
      </MarkedBar>
      <Refused error={add.error ?? save.error} />
      {save.data && (
        <p role="status">
          <Link to="/archive" className="link">
            {text.files.savedMessages}
          </Link>
        </p>
      )}
      <Grid
        label={text.sift.label}
        columns={columns}
        count={total.messages}
        total={total.messages}
        rowAt={(index) => rows[index - first]}
        keyOf={idOf}
        marks={workerMarks((marking) => void mark(marking))}
        ordered={{ by: view.order, descends: view.descending, change: onOrder }}
        onView={(from, to) => onView(Math.max(0, from - MARGIN), to - from + 1 + 2 * MARGIN)}
        onOpen={(row: ListRow) => setLooked(row)}
        onDelete={() => void addMarked('trash')}
        empty={filling ? text.sift.filling : text.sift.nothing}
      />
      <p className="note mt-2">
        {add.data && marked.messages === 0 ? text.sift.added(add.data.label) : text.sift.keys}
      </p>
      <MessagePreview
        id={looked?.id}
        title={looked && (details.get(looked.id)?.subject || text.sift.noSubject)}
        onClose={() => setLooked(undefined)}
        onMarkThread={(ids) => void mark({ kind: 'ids', ids, on: true })}
        thread={looked && looked.threaded > 1 ? () => client.call('thread', looked.id) : undefined}
      />
    </section>
  );
}

const ORDERS: Partial<Record<string, ListOrder>> = {
  size: 'size',
  date: 'date',
  from: 'from',
  subject: 'subject',
  category: 'category',
  folder: 'folder',
  attached: 'attached',
};

function columnsOf(
  figures: ReturnType<typeof useFigures>,
  largest: number,
  details: ReadonlyMap<number, Message>,
): Column<ListRow>[] {
  const column = (
    key: string,
    head: string,
    width: string,
    cell: (row: ListRow) => React.ReactNode,
    more: Partial<Column<ListRow>> = {},
  ): Column<ListRow> => ({ key, head, width, cell, ...(ORDERS[key] ? { order: ORDERS[key] } : {}), ...more });
  const quiet = (shown: React.ReactNode) => <span className="text-ink-2">{shown}</span>;
  return [
    markColumn(),
    lengthColumn(largest, 'water'),
    column('size', text.sift.size, '78px', ({ size }) => figures.octets(size), { align: 'right' }),
    column('date', text.sift.date, '84px', ({ date }) => quiet(figures.day(new Date(date * 1000).toISOString())), {
      minor: true,
    }),
    column('from', text.sift.from, 'minmax(92px, 1fr)', ({ name, address }) => name || address || text.sift.noSender),
    column('subject', text.sift.subject, 'minmax(90px, 2fr)', ({ id, threaded }) => {
      const known = details.get(id);
      return (
        <>
          {known ? known.subject || quiet(text.sift.noSubject) : quiet('…')}
          {threaded > 1 && <span className="note"> {text.sift.inThread(threaded)}</span>}
        </>
      );
    }),
    column('category', text.sift.category, '66px', ({ category }) => quiet(text.categories[category]), { minor: true }),
    column('folder', text.look.folder, 'minmax(70px, 0.6fr)', ({ folder }) => quiet(folder), { minor: true }),
    column(
      'attached',
      text.sift.attached,
      '72px',
      ({ id, kinds }) => {
        const known = details.get(id);
        return quiet(known ? attached(known) : kindNames(kinds));
      },
      { minor: true },
    ),
  ];
}

function kindNames(bits: number): string {
  return FILE_KINDS.filter((_, kind) => ((bits >> kind) & 1) !== 0)
    .map((kind) => text.kinds[kind])
    .join(', ');
}
