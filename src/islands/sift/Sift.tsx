import { useCallback, useEffect, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { useAccount, useSearch } from '../../ui/api/account';
import { call, query } from '../../ui/api/call';
import { useColumns } from '../../ui/columns/provider';
import { useNarrowed } from '../../ui/columns/useNarrowed';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { go, Link, useRoute, withState } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import type { ListOrder } from '../../workers/protocol';
import { Conditions } from './Conditions';
import { Distributions } from './Distributions';
import { Field } from './Field';
import { MessageList } from './MessageList';
import { SavedFilters } from './SavedFilters';

const DESCENDS = new Set(['size', 'date', 'attached']);

/** The workbench: the whole mailbox narrowed by hand, marked, and taken into the plan. The URL holds its state. */
export default function Sift() {
  const route = useRoute();
  const client = useColumns();
  const search = useSearch().data;
  const applied = route.search.get('where') ?? '';
  /** Whether a hand drags: then what is shown says which criteria, and the URL follows when it lets go. */
  const [dragging, setDragging] = useState(false);
  const order = (route.search.get('order') ?? 'size') as ListOrder;
  const descending = (route.search.get('direction') ?? (DESCENDS.has(order) ? 'down' : 'up')) === 'down';
  const [view, setView] = useState({ first: 0, count: 60 });
  const { data, error, problem, ask, narrowTo } = useNarrowed(applied, { order, descending, ...view });
  const where = dragging && data ? data.where : applied;
  const drag = useCallback(
    (next: string) => {
      setDragging(true);
      narrowTo(next);
    },
    [narrowTo],
  );
  const setWhere = (next: string) => {
    setDragging(false);
    narrowTo(undefined);
    if (next !== applied) go(withState(route, { where: next }));
  };
  const changeOrder = (by: string) => {
    const usual = DESCENDS.has(by) ? 'down' : 'up';
    const next = by === order ? (descending ? 'up' : 'down') : usual;
    go(withState(route, { order: by === 'size' ? '' : by, direction: next === usual ? '' : next }), true);
  };
  const lot = route.search.get('lot');
  const { base } = useAccount();
  // A lot that is sent here comes with its messages marked.
  // biome-ignore lint/correctness/useExhaustiveDependencies: once a lot
  useEffect(() => {
    if (!client || lot === null) return;
    void (async () => {
      const { ids } = await call<{ ids: string }>(`${base}/lots/${lot}`);
      await client.ready;
      await client.call('mark', { kind: 'set', ids });
      go(withState(route, { lot: '' }), true);
      await ask();
    })().catch(() => go(withState(route, { lot: '' }), true));
  }, [client, lot]);
  const changeView = useCallback((first: number, count: number) => setView({ first, count }), []);
  return (
    <>
      <h1 className="sr-only">{text.places.sift}</h1>
      <div className="grid shrink-0 gap-2">
        <div className="flex items-start gap-x-3 gap-y-2 max-md:flex-wrap">
          <CriteriaField value={where} placeholder={text.sift.placeholder} onChange={setWhere} />
          <SavedFilters where={applied} onChoose={setWhere} />
          <Link to={`/senders${query({ where: applied })}`} className="button">
            {text.sift.rankSenders}
          </Link>
          <button type="button" className="button" disabled={where === ''} onClick={() => setWhere('')}>
            {text.sift.clear}
          </button>
        </div>
        <Conditions where={where} onChange={setWhere} />
        {!parseCriteria(applied).ok && <p className="text-go">{text.sift.unreadableAddress}</p>}
        {data?.waiting.map((key) => (
          <p key={key} role="status" className="note">
            {text.sift.looking(key)}
            {search?.state === 'running' &&
              ` ${text.sift.searching(search.text, search.folders.done, search.folders.total)}`}
          </p>
        ))}
        {problem && (
          <p role="alert" className="text-go">
            {problem}
          </p>
        )}
      </div>
      {error && <Failed error={error} retry={ask} />}
      {!data || !client ? (
        !error && <Loading />
      ) : (
        <div
          className="grid min-h-0 flex-1 grid-cols-[246px_minmax(0,1fr)] grid-rows-[auto_minmax(0,1fr)] gap-3.5 *:first:row-span-2 max-tank:flex max-tank:flex-col"
          data-where={data.where}
        >
          <Distributions narrowed={data} where={where} onChange={setWhere} />
          <Field narrowed={data} where={where} onDraft={drag} onChange={setWhere} />
          <MessageList
            narrowed={data}
            client={client}
            view={{ order, descending, ...view }}
            onView={changeView}
            onOrder={changeOrder}
            ask={ask}
          />
        </div>
      )}
    </>
  );
}
