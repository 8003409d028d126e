import { useChange, useFigures } from '../../../ui/api/account';
import type { Lot, Run } from '../../../ui/api/types';
import { Question } from '../../../ui/Question';
import { go } from '../../../ui/route';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** One question, one answer for each fate in the plan. */
export function Act({ lots }: { lots: Lot[] }) {
  const { octets } = useFigures();
  const run = useChange<{ action: Lot['fate']; lots: number[] }, Run>(
    () => '/runs',
    'POST',
    (body) => body,
    ['lots', 'level', 'runs'],
  );
  const fated = (fate: Lot['fate']) => {
    const some = lots.filter((lot) => lot.fate === fate);
    const sum = some.reduce(
      (so, { adds }) => ({ messages: so.messages + adds.messages, bytes: so.bytes + adds.bytes }),
      { messages: 0, bytes: 0 },
    );
    return {
      // A lot that guards keep whole has nothing to carry out.
      ids: some.filter(({ messages }) => messages > 0).map(({ id }) => id),
      sum: sum.messages,
      messages: text.messages(sum.messages, count(sum.messages)),
      bytes: octets(sum.bytes),
    };
  };
  const toTrash = fated('trash');
  const toPurge = fated('purge');
  const start = (action: Lot['fate'], ids: number[]) =>
    run.mutate({ action, lots: ids }, { onSuccess: () => go('/ledger') });
  const outside = lots.some(({ fate, suggestion }) => fate === 'purge' && suggestion !== 'trash');
  const purgeSentence = outside ? text.review.purgeQuestion : text.trash.purgeText;
  return (
    <section className="card grid content-start gap-4">
      {toTrash.sum > 0 && (
        <div className="grid gap-3">
          <p>{text.review.question(toTrash.messages)}</p>
          <button
            type="button"
            className="button button-chief justify-self-start px-5 py-2"
            disabled={run.isPending}
            onClick={() => start('trash', toTrash.ids)}
          >
            {text.review.go(toTrash.messages)}
          </button>
        </div>
      )}
      {toPurge.sum > 0 && (
        <Question
          title={text.trash.sure}
          sentence={purgeSentence(toPurge.messages, toPurge.bytes)}
          doIt={text.review.goPurge(toPurge.messages)}
          onDo={() => start('purge', toPurge.ids)}
          trigger={
            <button type="button" className="button button-go justify-self-start" disabled={run.isPending}>
              {text.review.goPurge(toPurge.messages)}
            </button>
          }
        />
      )}
      {run.error && (
        <p role="alert" className="text-go">
          {run.error.message}
        </p>
      )}
    </section>
  );
}
