import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { printText } from '../../core/criteria/print';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call, query } from '../../ui/api/call';
import { useMore } from '../../ui/api/more';
import type { Sender } from '../../ui/api/types';
import { Bar } from '../../ui/Bar';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { type Column, Grid, LengthHead, markColumn } from '../../ui/grid/Grid';
import { isMarked, keyMarks, type Marking, nothing } from '../../ui/grid/marking';
import { AddToPlan } from '../../ui/plan/AddToPlan';
import { go, Link, type Route, useRoute, withState } from '../../ui/route';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';

type By = 'domain' | 'address';

const keyOfSender = ({ key }: Sender) => key;

/** Criteria that mean one sender under the criteria of the view; undefined for messages that have no sender. */
function criteriaOfSender(by: By, key: string, where: string): string | undefined {
  if (key === '') return undefined;
  const sender = `${by === 'domain' ? 'domain' : 'from'} = ${printText(key)}`;
  return where === '' ? sender : `(${where}) and ${sender}`;
}

/** A domain of several people goes by itself; a sender who is one goes by the name. */
function titleOf(by: By, { key, name, names }: Sender): { title: string; note: string } {
  if (by === 'domain' && names.length > 1)
    return { title: key, note: text.senders.andOthers(name || (names[0] ?? '')) };
  return { title: name || key || text.senders.nobody, note: name ? key : '' };
}

/** Who fills the mailbox, ranked, and taken into the plan as whole senders. */
export default function Senders() {
  const route = useRoute();
  const where = route.search.get('where') ?? '';
  const by = (route.search.get('by') ?? 'domain') as By;
  const order = route.search.get('order') ?? 'bytes';
  return (
    <>
      <h1 className="sr-only">{text.places.senders}</h1>
      <div className="flex flex-wrap items-start gap-3">
        <CriteriaField
          value={where}
          placeholder={text.senders.narrow}
          onChange={(next) => go(withState(route, { where: next }))}
        />
        <Switch
          route={route}
          name="by"
          label={text.senders.by}
          usual="domain"
          value={by}
          options={['domain', 'address']}
        />
        <Switch
          route={route}
          name="order"
          label={text.senders.order}
          usual="bytes"
          value={order}
          options={['bytes', 'messages', 'month']}
        />
      </div>
      {parseCriteria(where).ok && <Ranking key={`${where} ${by}`} where={where} by={by} order={order} />}
    </>
  );
}

function Switch({
  route,
  name,
  label,
  usual,
  value,
  options,
}: {
  route: Route;
  name: string;
  label: string;
  usual: string;
  value: string;
  options: (keyof typeof text.senders)[];
}) {
  return (
    // biome-ignore lint/a11y/useSemanticElements: a row of buttons, not a part of a form
    <div role="group" aria-label={label} className="flex items-center gap-2">
      <span className="text-ink-2">{label}</span>
      {options.map((option) => (
        <button
          key={option}
          type="button"
          aria-pressed={option === value}
          className={`button ${option === value ? 'button-chief' : ''}`}
          onClick={() => go(withState(route, { [name]: option === usual ? '' : option }), true)}
        >
          {text.senders[option] as string}
        </button>
      ))}
    </div>
  );
}

interface Page {
  total: number;
  senders: Sender[];
  next?: string;
}

function Ranking({ where, by, order }: { where: string; by: By; order: string }) {
  const { account, base } = useAccount();
  const { octets, month: monthOf } = useFigures();
  const [marking, setMarking] = useState<Marking<string>>(nothing());
  const [opened, setOpened] = useState<Sender>();
  const ranked = useInfiniteQuery({
    queryKey: ['senders', account.id, where, by, order],
    queryFn: ({ pageParam, signal }) =>
      call<Page>(`${base}/senders${query({ where, by, order, limit: 200, after: pageParam })}`, { signal }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });
  const rows = useMemo(() => ranked.data?.pages.flatMap(({ senders }) => senders) ?? [], [ranked.data]);
  const more = useMore(ranked);
  const add = useChange<Sender>(
    () => '/lots',
    'POST',
    (sender) => ({ label: titleOf(by, sender).title, where: criteriaOfSender(by, sender.key, where) }),
    ['lots', 'level'],
  );
  if (ranked.error) return <Failed error={ranked.error} retry={() => void ranked.refetch()} />;
  const total = ranked.data?.pages[0]?.total;
  if (total === undefined) return <Loading />;
  const marked = rows.filter((sender) => isMarked(marking, sender.key) && sender.key !== '');
  const sum = marked.reduce(
    (so, { messages, bytes }) => ({ messages: so.messages + messages, bytes: so.bytes + bytes }),
    { messages: 0, bytes: 0 },
  );
  const addMarked = async () => {
    for (const sender of marked) await add.mutateAsync(sender);
    setMarking(nothing());
  };
  const largest = rows.reduce(
    (most, sender) =>
      Math.max(most, order === 'messages' ? sender.messages : order === 'month' ? sender.month : sender.bytes),
    1,
  );
  const columns: Column<Sender>[] = [
    markColumn(),
    {
      key: 'sender',
      head: text.senders.sender,
      width: 'minmax(120px, 2fr)',
      cell: (sender) => {
        const { title, note } = titleOf(by, sender);
        return (
          <span title={sender.names.join(', ')}>
            <span className="font-semibold">{title}</span> <span className="note">{note}</span>
          </span>
        );
      },
    },
    {
      key: 'messages',
      head: text.level.count,
      width: '66px',
      align: 'right',
      minor: true,
      cell: ({ messages }) => count(messages),
    },
    { key: 'bytes', head: text.review.bytes, width: '80px', align: 'right', cell: ({ bytes }) => octets(bytes) },
    {
      key: 'bar',
      head: <LengthHead />,
      width: '52px',
      minor: true,
      cell: (sender) => (
        <Bar
          share={(order === 'messages' ? sender.messages : order === 'month' ? sender.month : sender.bytes) / largest}
        />
      ),
    },
    {
      key: 'month',
      head: text.senders.aMonth,
      width: '74px',
      align: 'right',
      minor: true,
      cell: ({ month }) => octets(month),
    },
    {
      key: 'first',
      head: text.senders.first,
      width: '60px',
      minor: true,
      cell: ({ first }) => <span className="text-ink-2">{monthOf(first)}</span>,
    },
    {
      key: 'last',
      head: text.senders.last,
      width: '60px',
      minor: true,
      cell: ({ last }) => <span className="text-ink-2">{monthOf(last)}</span>,
    },
    {
      key: 'unseen',
      head: text.senders.unseen,
      width: '68px',
      align: 'right',
      minor: true,
      cell: ({ unseen, messages }) => percent(unseen / messages),
    },
    {
      key: 'written',
      head: text.senders.written,
      width: '60px',
      align: 'right',
      minor: true,
      cell: ({ written }) => (written === 0 ? '–' : count(written)),
    },
  ];
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-[14px] xl:flex-row">
      <section className="card flex min-h-0 min-w-0 flex-1 flex-col">
        <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
          <p role="status">
            <strong>{text.senders.summary(count(total))}</strong>
          </p>
          <p role="status" className="ml-auto">
            {marked.length > 0 ? (
              <strong>
                {text.strip.summary(
                  text.senders.summary(count(marked.length)),
                  text.messages(sum.messages, count(sum.messages)),
                  octets(sum.bytes),
                )}
              </strong>
            ) : (
              <span className="text-ink-2">{text.sift.noneMarked}</span>
            )}
          </p>
          <AddToPlan disabled={marked.length === 0 || add.isPending} onAdd={() => void addMarked()} />
        </div>
        <Refused error={add.error} />
        <Grid
          label={text.senders.label}
          columns={columns}
          count={rows.length}
          total={total}
          rowAt={(index) => rows[index]}
          keyOf={keyOfSender}
          marks={keyMarks(rows, keyOfSender, marking, setMarking)}
          onEnd={more}
          onOpen={(sender) => setOpened(sender)}
          onDelete={() => void addMarked()}
          empty={text.senders.nothing}
        />
        <p className="note mt-2">{text.senders.keys}</p>
      </section>
      <Newest by={by} sender={opened} where={where} />
    </div>
  );
}

/** The newest subjects of a sender, so that nobody decides on a name alone. */
function Newest({ by, sender, where }: { by: By; sender: Sender | undefined; where: string }) {
  const { account, base } = useAccount();
  const { octets, day } = useFigures();
  const newest = useQuery({
    queryKey: ['newest', account.id, by, sender?.key],
    queryFn: () =>
      call<{ id: number; subject: string; date: string; size: number }[]>(
        `${base}/senders/${encodeURIComponent(sender?.key ?? '')}/newest?by=${by}`,
      ),
    enabled: sender !== undefined && sender.key !== '',
  });
  if (!sender) return null;
  const criteria = criteriaOfSender(by, sender.key, where);
  return (
    <section className="card shrink-0 content-start xl:w-[250px]" aria-live="polite">
      <h2>{text.senders.newest(titleOf(by, sender).title)}</h2>
      {newest.error && <p className="text-go">{newest.error.message}</p>}
      <ul>
        {newest.data?.map(({ id, subject, date, size }) => (
          <li key={id} className="border-b border-hair py-1.5">
            <span className="block break-words">{subject || text.sift.noSubject}</span>
            <span className="note flex justify-between">
              <span>{day(date)}</span>
              <span>{octets(size)}</span>
            </span>
          </li>
        ))}
      </ul>
      {criteria && (
        <Link to={`/sift?where=${encodeURIComponent(criteria)}`} className="link mt-2 inline-block">
          {text.senders.inSift}
        </Link>
      )}
    </section>
  );
}
