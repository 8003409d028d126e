import { useState } from 'react';
import type { Bag, Lot, Run } from '../../../contract/types';
import { OF_THE_PLAN, useAccount, useChange, useFigures, useLevel } from '../../../ui/api/account';
import { Question } from '../../../ui/Question';
import { go } from '../../../ui/route';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** One question, one answer for each fate in the plan. */
export function CarryOut({ lots }: { lots: Lot[] }) {
  const { octets } = useFigures();
  const [copies, setCopies] = useState(false);
  const run = useChange<{ action: Lot['fate']; lots: number[]; copies?: true }, Run>(
    () => '/runs',
    'POST',
    (body) => body,
    ['lots', 'level', 'runs'],
    () => go('/ledger'),
  );
  const fated = (fate: Lot['fate'], shrinking: Lot['shrinking'] = null) => {
    const some = lots.filter((lot) => lot.fate === fate && isSame(lot.shrinking, shrinking));
    const sum = some.reduce(
      (so, { adds }) => ({ messages: so.messages + adds.messages, bytes: so.bytes + adds.bytes }),
      { messages: 0, bytes: 0 },
    );
    return {
      // A lot that guards keep whole has nothing to carry out.
      ids: some.filter(({ messages }) => messages > 0).map(({ id }) => id),
      unchecked: some.reduce((so, { unchecked }) => so + unchecked, 0),
      sum: sum.messages,
      messages: text.messages(sum.messages, count(sum.messages)),
      bytes: octets(sum.bytes),
    };
  };
  const toTrash = fated('trash');
  const toArchive = fated('archive');
  const toPurge = fated('purge');
  const toStrip = fated('strip');
  // A run makes all of its pictures smaller in one way.
  const ways: NonNullable<Lot['shrinking']>[] = [];
  for (const { shrinking } of lots) if (shrinking && !ways.some((one) => isSame(one, shrinking))) ways.push(shrinking);
  const toShrink = ways.map((way) => ({ way, ...fated('shrink', way) }));
  const losing = toShrink.reduce((sum, { sum: messages }) => sum + messages, toStrip.sum + toArchive.sum);
  const start = (action: Lot['fate'], ids: number[]) =>
    run.mutate({ action, lots: ids, ...(copies ? { copies: true } : {}) });
  const level = useLevel().data;
  const { settings } = useAccount();
  const hasTrash = !level || level.folders.some(({ role, path }) => role === 'trash' || path === settings.trashFolder);
  const outside = lots.some(({ fate, suggestion }) => fate === 'purge' && suggestion !== 'trash');
  const purgeSentence = outside ? text.review.purgeQuestion : text.trash.purgeText;
  return (
    <section className="card grid content-start gap-4">
      {level?.once !== undefined && (
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={copies} onChange={(event) => setCopies(event.target.checked)} />
          {text.review.copies}
        </label>
      )}
      {toTrash.sum + losing > 0 && !hasTrash && <NoTrash />}
      {toArchive.sum > 0 && hasTrash && (
        <div className="grid gap-3">
          <p>{text.review.archiveQuestion(toArchive.messages)}</p>
          <span className="flex flex-wrap gap-2">
            <button
              type="button"
              className="button button-chief px-5 py-2"
              disabled={run.isPending}
              onClick={() => start('archive', toArchive.ids)}
            >
              {text.review.goArchive(toArchive.messages)}
            </button>
            <Refate lots={toArchive.ids} fate="trash" />
          </span>
        </div>
      )}
      {toStrip.sum > 0 && hasTrash && (
        <div className="grid gap-3">
          <p>{text.review.stripQuestion(toStrip.messages, toStrip.bytes)}</p>
          {toStrip.unchecked > 0 && <SaveFirst lots={toStrip.ids} files={toStrip.unchecked} />}
          <button
            type="button"
            className="button button-chief justify-self-start px-5 py-2"
            disabled={run.isPending || toStrip.unchecked > 0}
            onClick={() => start('strip', toStrip.ids)}
          >
            {text.review.goStrip(toStrip.messages)}
          </button>
        </div>
      )}
      {hasTrash &&
        toShrink.map(({ way, ids, sum, messages, bytes, unchecked }) =>
          sum === 0 ? null : (
            <div key={`${way.longest} ${way.place}`} className="grid gap-3">
              <p>{text.review.shrinkQuestion(messages, bytes, way.longest)}</p>
              {unchecked > 0 && <SaveFirst lots={ids} files={unchecked} />}
              <button
                type="button"
                className="button button-chief justify-self-start px-5 py-2"
                disabled={run.isPending || unchecked > 0}
                onClick={() => start('shrink', ids)}
              >
                {text.review.goShrink(messages)}
              </button>
            </div>
          ),
        )}
      {toTrash.sum > 0 && hasTrash && (
        <div className="grid gap-3">
          <p>{text.review.question(toTrash.messages)}</p>
          <span className="flex flex-wrap gap-2">
            <button
              type="button"
              className="button button-chief px-5 py-2"
              disabled={run.isPending}
              onClick={() => start('trash', toTrash.ids)}
            >
              {text.review.go(toTrash.messages)}
            </button>
            <Refate lots={toTrash.ids} fate="archive" />
          </span>
        </div>
      )}
      {toPurge.sum > 0 && (
        <Question
          title={text.trash.sure}
          sentence={purgeSentence(toPurge.messages, toPurge.bytes)}
          doIt={text.review.goPurge(toPurge.messages)}
          answer={toPurge.sum}
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

function isSame(one: Lot['shrinking'], other: Lot['shrinking']): boolean {
  return one?.longest === other?.longest && one?.place === other?.place;
}

/** Has lots that go to the trash archived before, or not. */
function Refate({ lots, fate }: { lots: number[]; fate: 'trash' | 'archive' }) {
  const change = useChange<number>(
    (lot) => `/lots/${lot}`,
    'PATCH',
    () => ({ fate }),
    OF_THE_PLAN,
  );
  const changeAll = async () => {
    for (const lot of lots) await change.mutateAsync(lot);
  };
  return (
    <>
      <button
        type="button"
        className="button"
        disabled={change.isPending}
        onClick={() => void changeAll().catch(() => undefined)}
      >
        {text.review[fate === 'archive' ? 'archiveInstead' : 'archiveNot']}
      </button>
      <Refused error={change.error} />
    </>
  );
}

/** Files that nobody has a checked copy of stay in the mail: they are saved first. */
function SaveFirst({ lots, files }: { lots: number[]; files: number }) {
  const save = useChange<Bag['place'], Bag>(
    () => '/bags',
    'POST',
    (place) => ({ place, lots }),
    ['bags'],
    () => go('/files'),
  );
  return (
    <div className="grid gap-2">
      <p>{text.review.saveFirst(files, count(files))}</p>
      <span className="flex flex-wrap gap-2">
        {(['here', 'download'] as const).map((place) => (
          <button
            key={place}
            type="button"
            className="button"
            disabled={save.isPending}
            onClick={() => save.mutate(place)}
          >
            {text.files[place === 'here' ? 'saveHere' : 'saveThere']}
          </button>
        ))}
      </span>
      <Refused error={save.error} />
    </div>
  );
}

/** Without a trash folder nothing can be moved to it: one is made, but not without asking. */
function NoTrash() {
  const make = useChange<undefined>(
    () => '/trash',
    'POST',
    () => ({}),
    ['settings', 'level', 'trash'],
  );
  return (
    <div className="grid gap-3">
      <p>{text.review.noTrash}</p>
      <p>
        <button
          type="button"
          className="button button-chief"
          disabled={make.isPending}
          onClick={() => make.mutate(undefined)}
        >
          {text.review.makeTrash}
        </button>{' '}
        {text.review.nameTrash}
      </p>
      {make.error && (
        <p role="alert" className="text-go">
          {make.error.message}
        </p>
      )}
    </div>
  );
}
