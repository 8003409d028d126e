import { useMemo, useState } from 'react';
import type { Archive, Message, Run } from '../../contract/types';
import { useAccount, useChange, useFigures, useLevel } from '../../ui/api/account';
import { type Column, Grid } from '../../ui/grid/Grid';
import { isMarked, keyMarks, type Marking, nothing } from '../../ui/grid/marking';
import { messageColumns } from '../../ui/messages/columns';
import { MarkingBar } from '../../ui/messages/MarkingBar';
import { markedAmount } from '../../ui/messages/marked';
import { useMessages } from '../../ui/messages/useMessages';
import { go } from '../../ui/route';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { Look } from './Look';

const idOf = ({ id }: Message) => id;
const DESCENDING = new Set(['size', 'date']);

/** The messages of the archive that match, to be looked at and put back. */
export function ArchivedList({ where, archive }: { where: string; archive: Archive }) {
  const { unread, partly } = archive;
  const { base } = useAccount();
  const figures = useFigures();
  const [marking, setMarking] = useState<Marking<number>>(nothing());
  const [looked, setLooked] = useState<Message>();
  const [order, setOrder] = useState({ by: 'date', descends: true });
  const { rows, total, error, more, refetch } = useMessages({
    where,
    scope: 'archive',
    order: order.by,
    direction: order.descends ? 'down' : 'up',
  });
  const largest = useMemo(() => rows.reduce((most, { size }) => Math.max(most, size), 1), [rows]);
  const folders = useLevel().data?.folders.filter(({ repeats, role }) => !repeats && role !== 'trash') ?? [];
  const [to, setTo] = useState('');
  const putBack = useChange<object, Run>(
    () => '/runs',
    'POST',
    (body) => body,
    ['runs', 'level'],
    () => go('/ledger'),
  );
  if (error) return <Failed error={error} retry={() => void refetch()} />;
  if (!total) return <Loading />;
  const marked = markedAmount(marking, rows, total);
  const start = () => {
    const isAll = marking.kind === 'all' && marking.except.size === 0;
    const selector = isAll ? { where } : { ids: rows.filter(({ id }) => isMarked(marking, id)).map(({ id }) => id) };
    putBack.mutate({ action: 'put-back', expect: marked, ...selector, ...(to === '' ? {} : { to }) });
  };
  return (
    <section className="card flex min-h-64 min-w-0 flex-1 flex-col">
      <MarkingBar total={total} marked={marked} marking={marking} mark={setMarking}>
        <label className="note flex items-center gap-1">
          <span className="whitespace-nowrap">{text.archive.into}</span>
          <select className="field w-36" value={to} onChange={(event) => setTo(event.target.value)}>
            <option value="">{text.archive.itsFolder}</option>
            {folders.map(({ path }) => (
              <option key={path}>{path}</option>
            ))}
          </select>
        </label>
        <button
          type="button"
          className="button button-chief"
          disabled={marked.messages === 0 || putBack.isPending}
          onClick={start}
        >
          {text.archive.putBackMarked}
        </button>
      </MarkingBar>
      <Refused error={putBack.error} />
      {unread > 0 && (
        <p role="status" className="note mb-2">
          {text.archive.unread(text.messages(unread, count(unread)))}
        </p>
      )}
      {partly > 0 && <p className="note mb-2">{text.archive.partly(text.messages(partly, count(partly)))}</p>}
      <Grid
        label={text.archive.label}
        columns={columnsOf(figures, largest)}
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
        empty={text.archive.nothing}
      />
      <p className="note mt-2">
        {text.archive.keys}{' '}
        {total.messages > 0 && (
          <>
            <a className="link" href={`/api${base}/archive/download?${new URLSearchParams({ where })}`} download>
              {text.archive.download(text.messages(total.messages, count(total.messages)))}
            </a>{' '}
            <a
              className="link"
              href={`/api${base}/archive/download?${new URLSearchParams({ where, form: 'maildir' })}`}
              download
            >
              {text.archive.downloadMaildir}
            </a>
          </>
        )}
      </p>
      <Look message={looked} onClose={() => setLooked(undefined)} />
    </section>
  );
}

function columnsOf(figures: ReturnType<typeof useFigures>, largest: number): Column<Message>[] {
  return [
    ...messageColumns(figures, largest, 'water'),
    {
      key: 'folder',
      head: text.archive.wasIn,
      width: 'minmax(80px, 0.8fr)',
      minor: true,
      cell: ({ folder }) => <span className="text-ink-2">{folder}</span>,
    },
  ];
}
