import type { FileLot, Run } from '../../../contract/types';
import type { Shrinking } from '../../../core/files/shrinking';
import { useChange, useFigures } from '../../../ui/api/account';
import { useSpaces } from '../../../ui/api/spaces';
import { Question } from '../../../ui/Question';
import { go } from '../../../ui/route';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** One question for each fate in each file space. */
export function CarryOutFiles({ lots }: { lots: readonly FileLot[] }) {
  const spaces = useSpaces().data ?? [];
  const used = spaces.filter(({ id }) => lots.some(({ space }) => space === id));
  return (
    <section className="card grid content-start gap-4">
      {used.map(({ id, address }) => (
        <div key={id} className="grid gap-3">
          {used.length > 1 && <p className="note wrap-anywhere">{address}</p>}
          <InSpace space={id} lots={lots.filter(({ space }) => space === id)} />
        </div>
      ))}
    </section>
  );
}

function InSpace({ space, lots }: { space: number; lots: readonly FileLot[] }) {
  const { octets } = useFigures();
  const run = useChange<{ action: FileLot['fate']; lots: number[] }, Run>(
    () => `/spaces/${space}/runs`,
    'POST',
    (body) => body,
    ['lots', 'level', 'runs', 'spaces'],
    () => go('/ledger'),
  );
  const fated = (fate: FileLot['fate'], way = '') => {
    const some = lots.filter((lot) => lot.fate === fate && lot.files > 0 && wayOf(lot) === way);
    const files = some.reduce((sum, { adds }) => sum + adds.files, 0);
    const bytes = some.reduce((sum, { adds }) => sum + adds.bytes, 0);
    return { ids: some.map(({ id }) => id), number: files, files: text.space.files(files, count(files)), bytes };
  };
  const [toTrash, toPurge] = [fated('trash'), fated('purge')];
  // A run makes all of its pictures smaller in one way.
  const ways = [...new Set(lots.filter(({ fate }) => fate === 'shrink').map(wayOf))];
  const toShrink = ways.map((way) => ({ way, ...fated('shrink', way) })).filter(({ number }) => number > 0);
  return (
    <>
      {toTrash.number > 0 && (
        <>
          <p>{text.space.trashQuestion(toTrash.files)}</p>
          <button
            type="button"
            className="button button-chief justify-self-start px-5 py-2"
            disabled={run.isPending}
            onClick={() => run.mutate({ action: 'trash', lots: toTrash.ids })}
          >
            {text.space.goTrash(toTrash.files)}
          </button>
        </>
      )}
      {toShrink.map(({ way, ids, files, bytes }) => (
        <div key={way} className="grid gap-3">
          <p>{text.space.shrinkQuestion(files, octets(bytes), (JSON.parse(way) as Shrinking).longest)}</p>
          <button
            type="button"
            className="button button-chief justify-self-start px-5 py-2"
            disabled={run.isPending}
            onClick={() => run.mutate({ action: 'shrink', lots: ids })}
          >
            {text.space.goShrink(files)}
          </button>
        </div>
      ))}
      {toPurge.number > 0 && (
        <Question
          title={text.trash.sure}
          prompt={text.space.type}
          sentence={text.space.purgeQuestion(toPurge.files, octets(toPurge.bytes))}
          doIt={text.space.goPurge(toPurge.files)}
          answer={toPurge.number}
          onDo={() => run.mutate({ action: 'purge', lots: toPurge.ids })}
          trigger={
            <button type="button" className="button button-go justify-self-start" disabled={run.isPending}>
              {text.space.goPurge(toPurge.files)}
            </button>
          }
        />
      )}
      <Refused error={run.error} />
    </>
  );
}

/** How a lot makes pictures smaller, as a key; '' where it does not. */
function wayOf({ shrinking }: FileLot): string {
  return shrinking ? JSON.stringify({ longest: shrinking.longest, place: shrinking.place }) : '';
}
