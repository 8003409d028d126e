import { parseCriteria } from '../../core/criteria/parse';
import { GROUPINGS, type GroupingKind } from '../../core/senders/grouping';
import { GROUP_ORDERS, type GroupOrder } from '../../core/senders/ranking';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { go, type Route, useRoute, withState } from '../../ui/route';
import { FirstRanking } from '../../ui/scan/FirstRanking';
import { text } from '../../ui/text';
import { Ranking } from './Ranking';
import { DecisionSheet } from './sheet/DecisionSheet';

/** In the order in which they are offered. */
const OFFERED: readonly GroupingKind[] = ['domain', 'address', 'list', 'recipient'];

/** The day of the last message is ordered by at the head of its column. */
const OFFERED_ORDERS = GROUP_ORDERS.filter((order) => order !== 'last');

function oneOf<T extends string>(options: readonly T[], value: string | null, usual: T): T {
  return options.find((option) => option === value) ?? usual;
}

/** Who fills the mailbox, ranked, with what speaks for keeping, and decided on. The URL holds its state. */
export default function Senders() {
  const route = useRoute();
  const where = route.search.get('where') ?? '';
  const by = oneOf(GROUPINGS, route.search.get('by'), 'domain');
  const order = oneOf(GROUP_ORDERS, route.search.get('order'), 'bytes');
  const descending = route.search.get('direction') !== 'up';
  const changeOrder = (next: string) =>
    go(
      withState(route, {
        order: next === 'bytes' ? '' : next,
        direction: next === order && descending ? 'up' : '',
      }),
      true,
    );
  return (
    <>
      <h1 className="sr-only">{text.places.senders}</h1>
      <div className="flex flex-wrap items-start gap-3">
        <div className="flex min-w-60 flex-1">
          <CriteriaField
            value={where}
            placeholder={text.senders.narrow}
            onChange={(next) => go(withState(route, { where: next }))}
          />
        </div>
        <Switch route={route} name="by" label={text.senders.by} usual="domain" value={by} options={OFFERED} />
        <Switch
          route={route}
          name="order"
          label={text.senders.order}
          usual="bytes"
          value={order}
          options={OFFERED_ORDERS}
        />
        <DecisionSheet by={by} order={order} where={where} />
      </div>
      <FirstRanking limit={12} />
      {parseCriteria(where).ok && (
        <Ranking
          key={`${where} ${by}`}
          where={where}
          by={by}
          order={order}
          descending={descending}
          onOrder={changeOrder}
        />
      )}
    </>
  );
}

function Switch<T extends GroupingKind | GroupOrder>({
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
  usual: T;
  value: T;
  options: readonly T[];
}) {
  return (
    // biome-ignore lint/a11y/useSemanticElements: a row of buttons, not a part of a form
    <div role="group" aria-label={label} className="flex flex-wrap items-center gap-1.5">
      <span className="text-ink-2">{label}</span>
      {options.map((option) => (
        <button
          key={option}
          type="button"
          aria-pressed={option === value}
          className={`button px-2 ${option === value ? 'button-chief' : ''}`}
          onClick={() =>
            go(
              withState(route, {
                [name]: option === usual ? '' : option,
                ...(name === 'order' ? { direction: '' } : {}),
              }),
              true,
            )
          }
        >
          {text.senders[option]}
        </button>
      ))}
    </div>
  );
}
