import { useChange, useFigures, useLevel, useLots } from '../../ui/api/account';
import type { Level, Lot, Run } from '../../ui/api/types';
import { Bar } from '../../ui/Bar';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { go, Link } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { segmentsOf } from '../../ui/tank/segments';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';

/** The plan, inspected and carried out. */
export default function Review() {
  const lots = useLots();
  const level = useLevel();
  if (lots.error) return <Failed error={lots.error} retry={() => void lots.refetch()} />;
  if (!lots.data || !level.data) return <Loading />;
  const { lots: plan, total } = lots.data;
  if (plan.length === 0) {
    return (
      <section className="card">
        <h1 className="text-[15px]">{text.strip.review}</h1>
        <p className="mt-2">{text.review.empty}</p>
      </section>
    );
  }
  return (
    <>
      <LotTable lots={plan} total={total} />
      <div className="grid gap-[14px] lg:grid-cols-[1fr_380px]">
        <Act lots={plan} />
        <After level={level.data} />
      </div>
    </>
  );
}

function LotTable({ lots, total }: { lots: Lot[]; total: { messages: number; bytes: number } }) {
  const { octets } = useFigures();
  const drop = useChange<number>(
    (id) => `/lots/${id}`,
    'DELETE',
    () => undefined,
    ['lots', 'level'],
  );
  const sum = lots.reduce(
    (so, { messages, bytes }) => ({ messages: so.messages + messages, bytes: so.bytes + bytes }),
    { messages: 0, bytes: 0 },
  );
  const overlap = { messages: sum.messages - total.messages, bytes: sum.bytes - total.bytes };
  const most = Math.max(1, ...lots.map(({ adds }) => adds.bytes));
  return (
    <section className="card">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h1 className="text-[13px]">
          {text.review.title(
            text.strip.lots(lots.length, count(lots.length)),
            text.messages(total.messages, count(total.messages)),
            octets(total.bytes),
          )}
        </h1>
        {overlap.messages > 0 && (
          <p className="note">
            {text.review.overlap(octets(overlap.bytes), text.messages(overlap.messages, count(overlap.messages)))}
          </p>
        )}
      </div>
      <div className="overflow-x-auto">
        <table className="table">
          <Heads
            of={[
              [text.review.lot],
              [text.review.criteria, 'minor'],
              [text.review.messages, 'number'],
              [text.review.bytes, 'number minor'],
              [text.review.only, 'number minor'],
              [text.review.adds, 'number'],
              ['', 'minor w-[140px]'],
              [''],
            ]}
          />
          <tbody>
            {lots.map((lot) => (
              <tr key={lot.id}>
                <td className="font-semibold break-words">{lot.label}</td>
                <td className="minor font-mono text-[12px] text-ink-2 break-words">
                  {lot.where ?? text.review.chosen}
                </td>
                <td className="number">{count(lot.messages)}</td>
                <td className="number minor">{octets(lot.bytes)}</td>
                <td className="number minor">{octets(lot.only.bytes)}</td>
                <td className="number">{octets(lot.adds.bytes)}</td>
                <td className="minor">
                  <Bar share={lot.adds.bytes / most} kind="hatch" />
                </td>
                <td className="number">
                  {lot.where !== null && (
                    <>
                      <Link className="link" to={`/sift?where=${encodeURIComponent(lot.where)}`}>
                        {text.review.open}
                      </Link>
                      {' · '}
                    </>
                  )}
                  <button
                    type="button"
                    className="link"
                    onClick={() => drop.mutate(lot.id)}
                    aria-label={`${text.review.drop}: ${lot.label}`}
                  >
                    {text.review.drop}
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** One question, one answer for each fate in the plan. */
function Act({ lots }: { lots: Lot[] }) {
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
      ids: some.map(({ id }) => id),
      messages: text.messages(sum.messages, count(sum.messages)),
      bytes: octets(sum.bytes),
    };
  };
  const toTrash = fated('trash');
  const toPurge = fated('purge');
  const start = (action: Lot['fate'], ids: number[]) =>
    run.mutate({ action, lots: ids }, { onSuccess: () => go('/ledger') });
  return (
    <section className="card grid content-start gap-4">
      {toTrash.ids.length > 0 && (
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
      {toPurge.ids.length > 0 && (
        <Question
          title={text.trash.sure}
          sentence={text.review.purgeQuestion(toPurge.messages, toPurge.bytes)}
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

/** The level now, after the move, and after the purge: the same figures as the tank. */
function After({ level }: { level: Level }) {
  const { other, kept, trash, plan, full } = segmentsOf(level);
  const share = (bytes: number) => (level.limit === null ? '' : percent(bytes / level.limit));
  const target = level.targetBytes === null ? undefined : level.targetBytes / full;
  const rows: { name: string; figure: string; parts: [string, number][] }[] = [
    {
      name: text.review.now,
      figure: share(level.used),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
        ['bg-silt', trash],
        ['hatch', plan],
      ],
    },
    {
      name: text.review.afterMove,
      figure: share(level.used),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
        ['bg-silt', trash + plan],
      ],
    },
    {
      name: text.review.afterPurge,
      figure: share(level.after),
      parts: [
        ['bg-stone', other],
        ['bg-water', kept],
      ],
    },
  ];
  return (
    <section className="card grid content-start gap-3">
      <div className="flex items-baseline justify-between">
        <h2>{text.review.will}</h2>
        {level.limit !== null && level.targetBytes !== null && (
          <p className="note">{text.review.target(percent(level.targetBytes / level.limit))}</p>
        )}
      </div>
      {rows.map(({ name, figure, parts }) => (
        <div key={name}>
          <p className="flex justify-between">
            <span>{name}</span>
            <strong>{figure}</strong>
          </p>
          <div aria-hidden="true" className="relative flex h-4 border border-line bg-paper">
            {parts.map(([paint, bytes]) => (
              <span key={paint} className={`h-full ${paint}`} style={{ width: `${(bytes / full) * 100}%` }} />
            ))}
            {target !== undefined && (
              <span className="absolute -inset-y-[3px] w-[2px] bg-ink" style={{ left: `${target * 100}%` }} />
            )}
          </div>
        </div>
      ))}
      <p className="note">{text.review.willNote}</p>
    </section>
  );
}
