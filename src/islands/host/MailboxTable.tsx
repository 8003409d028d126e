import { useState } from 'react';
import type { HostMailbox, HostMailboxes } from '../../contract/types';
import { HOST_STATES, type HostState } from '../../core/host/state';
import { Grid } from '../../ui/grid/Grid';
import { isEmpty, isMarked, keyMarks, nothing } from '../../ui/grid/marking';
import { go, useRoute, withState } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { AddMailboxes } from './AddMailboxes';
import { hostColumns } from './columns';
import { MailboxDetails } from './MailboxDetails';
import { descendsFirst, HOST_ORDERS, type HostOrder, narrowed } from './narrow';
import { NewRound } from './rounds/NewRound';
import { Domains } from './Summary';
import { saysOf, urgencyOf } from './told';
import { useHostChange, useOperator } from './useHost';

/** The list of mailboxes, narrowed and ordered as the URL says. */
export function MailboxTable({ data }: { data: HostMailboxes }) {
  const route = useRoute();
  const { base } = useOperator();
  const [marking, setMarking] = useState(nothing<number>());
  const [adding, setAdding] = useState(false);
  const [deciding, setDeciding] = useState(false);
  const measure = useHostChange<{ mailboxes?: number[] }>(() => '/measurements', 'POST');
  const order = HOST_ORDERS.find((each) => each === route.search.get('by')) ?? 'share';
  const descends = (route.search.get('down') ?? (descendsFirst(order) ? '1' : '0')) === '1';
  const state = HOST_STATES.find((each) => each === route.search.get('state')) ?? '';
  const domain = route.search.get('domain') ?? '';
  const words = route.search.get('q') ?? '';
  const set = (changes: Record<string, string>) => go(withState(route, changes), true);
  const rows = narrowed(data.mailboxes, { words, state, domain, order, descends }, saysOf, urgencyOf);
  const opened = data.mailboxes.find(({ id }) => `${id}` === route.search.get('look'));
  const marked = rows.filter(({ id }) => isMarked(marking, id));
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  const change = (by: string) => {
    const next = by as HostOrder;
    set({ by: next, down: (next === order ? !descends : descendsFirst(next)) ? '1' : '0' });
  };
  return (
    <>
      <section className="card flex min-h-[260px] flex-1 flex-col max-tank:flex-none">
        <div className="mb-2 flex flex-wrap items-center gap-2">
          <h2 className="mr-auto">
            <span role="status">
              {rows.length === data.mailboxes.length
                ? text.host.list[order]
                : text.host.narrowed(count(rows.length), count(data.mailboxes.length))}
              {marked.length > 0 && <span className="text-ink-2"> {text.host.marked(count(marked.length))}</span>}
            </span>
          </h2>
          <button
            type="button"
            className="button"
            disabled={measure.isPending || data.measuring > 0 || data.mailboxes.length === 0}
            onClick={() => measure.mutate(isEmpty(marking) ? {} : { mailboxes: marked.map(({ id }) => id) })}
          >
            {data.measuring > 0
              ? text.host.measuring(count(data.measuring))
              : isEmpty(marking)
                ? text.host.measureAll
                : text.host.measureMarked(count(marked.length))}
          </button>
          <a className="button" href={`/api${base}/sheet`} download="mailboxes.csv">
            {text.host.export}
          </a>
          <button
            type="button"
            className="button"
            disabled={data.mailboxes.length === 0}
            onClick={() => setDeciding(true)}
          >
            {text.host.rounds.make}
          </button>
          <button type="button" className="button button-chief" onClick={() => setAdding(true)}>
            {text.host.add}
          </button>
        </div>
        <Refused error={measure.error} />
        <Narrow mailboxes={data.mailboxes} words={words} state={state} domain={domain} onChange={set} />
        <Grid
          label={text.host.title}
          columns={hostColumns(timeZone, ({ id }) => set({ look: `${id}` }))}
          count={rows.length}
          total={rows.length}
          rowAt={(index) => rows[index]}
          keyOf={({ id }) => id}
          marks={keyMarks(rows, ({ id }) => id, marking, setMarking)}
          ordered={{ by: order, descends, change }}
          onOpen={({ id }) => set({ look: `${id}` })}
          onDelete={() => undefined}
          empty={data.mailboxes.length === 0 ? text.host.none : text.host.noneMatch}
        />
        <p className="note mt-2">{text.host.keys}</p>
      </section>
      <Domains mailboxes={data.mailboxes} domain={domain} onDomain={(name) => set({ domain: name })} />
      <MailboxDetails key={opened?.id ?? 0} mailbox={opened} onClose={() => set({ look: '' })} />
      {deciding && <NewRound mailboxes={data.mailboxes} marked={marked} onClose={() => setDeciding(false)} />}
      <AddMailboxes open={adding} onClose={() => setAdding(false)} />
    </>
  );
}

/** What narrows the list: words, and one of the states that there are. */
function Narrow({
  mailboxes,
  words,
  state,
  domain,
  onChange,
}: {
  mailboxes: readonly HostMailbox[];
  words: string;
  state: HostState | '';
  domain: string;
  onChange(changes: Record<string, string>): void;
}) {
  const counts = new Map<HostState, number>();
  for (const { states } of mailboxes) for (const each of states) counts.set(each, (counts.get(each) ?? 0) + 1);
  return (
    <div className="mb-2 flex flex-wrap items-center gap-2">
      <input
        data-criteria
        className="field w-56"
        type="search"
        aria-label={text.host.words}
        placeholder={text.host.words}
        value={words}
        onChange={(event) => onChange({ q: event.target.value })}
      />
      <select
        className="field"
        aria-label={text.host.heads.state}
        value={state}
        onChange={(event) => onChange({ state: event.target.value })}
      >
        <option value="">{text.host.everyState}</option>
        {HOST_STATES.filter((each) => counts.has(each)).map((each) => (
          <option key={each} value={each}>
            {text.host.stateCount(text.host.states[each], count(counts.get(each) ?? 0))}
          </option>
        ))}
      </select>
      {domain !== '' && (
        <button type="button" className="button" onClick={() => onChange({ domain: '' })}>
          {text.host.withoutDomain(domain)}
        </button>
      )}
    </div>
  );
}
