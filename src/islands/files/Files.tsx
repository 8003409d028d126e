import { useCallback, useEffect, useState } from 'react';
import { useAccount } from '../../ui/api/account';
import { subscribe } from '../../ui/api/events';
import { useColumns } from '../../ui/columns/provider';
import { useAsked } from '../../ui/columns/useAsked';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { go, useRoute, withState } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import type { FileFilter, ListOrder } from '../../workers/protocol';
import { Facets } from './Facets';
import { FileList } from './FileList';
import { Steps } from './Steps';

const DESCENDS = new Set(['size', 'date']);
/** What is asked for at once; the rest follows as it comes into view. */
const FIRST_ROWS = 60;

/** Every file of the mailbox, narrowed as messages are in Sift, and the way out of it. The URL holds the state. */
export default function Files() {
  const route = useRoute();
  const client = useColumns();
  const { account } = useAccount();
  const where = route.search.get('where') ?? '';
  const order = (route.search.get('order') ?? 'size') as ListOrder;
  const descending = (route.search.get('direction') ?? (DESCENDS.has(order) ? 'down' : 'up')) === 'down';
  const filter: FileFilter = {
    copy: (route.search.get('copy') ?? null) as FileFilter['copy'],
    mailed: (route.search.get('mailed') ?? null) as FileFilter['mailed'],
    place: (route.search.get('place') ?? null) as FileFilter['place'],
  };
  const [view, setView] = useState({ first: 0, count: FIRST_ROWS });
  const isPictures = route.search.get('as') === 'pictures';
  const list = { order, descending, ...view };
  const { data, error, ask } = useAsked('narrowFiles', { where, list, filter, now: 0 }, (asked) => ({
    ...asked,
    now: Date.now(),
  }));
  // What was saved or checked, and what a file space was found to hold, shows in the list.
  useEffect(
    () =>
      subscribe(account.id, ({ kind, data: told }) => {
        const isListed = kind === 'space';
        if (isListed || (kind === 'bag' && (told as { state?: string }).state === 'done'))
          void client?.call('refreshFiles', null).then(ask);
      }),
    [account.id, client, ask],
  );
  const change = (state: Record<string, string>) => go(withState(route, state));
  const changeOrder = (by: string) => {
    const usual = DESCENDS.has(by) ? 'down' : 'up';
    const next = by === order ? (descending ? 'up' : 'down') : usual;
    go(withState(route, { order: by === 'size' ? '' : by, direction: next === usual ? '' : next }), true);
  };
  const changeView = useCallback((first: number, count: number) => setView({ first, count }), []);
  return (
    <>
      <h1 className="sr-only">{text.places.files}</h1>
      <div className="flex items-start gap-x-3 gap-y-2 max-md:flex-wrap">
        <CriteriaField
          value={where}
          placeholder={text.files.placeholder}
          onChange={(next) => change({ where: next })}
        />
        <button
          type="button"
          className="button"
          disabled={where === '' && Object.values(filter).every((one) => one === null)}
          onClick={() => change({ where: '', copy: '', mailed: '', place: '' })}
        >
          {text.sift.clear}
        </button>
        <fieldset className="flex gap-1" aria-label={text.files.shownAs}>
          {(['list', 'pictures'] as const).map((as) => (
            <button
              key={as}
              type="button"
              className={`button ${isPictures === (as === 'pictures') ? 'button-chief' : ''}`}
              aria-pressed={isPictures === (as === 'pictures')}
              onClick={() => go(withState(route, { as: as === 'list' ? '' : as }), true)}
            >
              {text.files.as[as]}
            </button>
          ))}
        </fieldset>
      </div>
      {error && <Failed error={error} retry={ask} />}
      {!data || !client ? (
        !error && <Loading />
      ) : (
        <div className="grid min-h-0 flex-1 grid-cols-[246px_minmax(0,1fr)] gap-3.5 max-tank:flex max-tank:flex-col">
          <Facets narrowed={data} where={where} filter={filter} onChange={change} />
          <div className="flex min-h-0 min-w-0 flex-col gap-3.5">
            <FileList
              narrowed={data}
              client={client}
              view={list}
              isPictures={isPictures}
              onView={changeView}
              onOrder={changeOrder}
              ask={ask}
            />
            <Steps />
          </div>
        </div>
      )}
    </>
  );
}
