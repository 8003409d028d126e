import { useState } from 'react';
import type { Level, TrashState } from '../../contract/types';
import { useFigures } from '../../ui/api/account';
import { Question } from '../../ui/Question';
import { go, Link, useRoute, withState } from '../../ui/route';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { useOlder } from './useOlder';
import { useRun } from './useTrash';

/** All of the trash but what guards keep, or what has lain in it for long, in one purge. */
export function PurgeTrash({ level, trash }: { level: Level; trash: TrashState }) {
  const { octets } = useFigures();
  const route = useRoute();
  const run = useRun(() => go('/ledger'));
  const [days, setDays] = useState('');
  const older = useOlder(days);
  const { trash: all, trashGuarded: guarded } = level;
  const goes = { messages: all.messages - guarded.messages, bytes: all.bytes - guarded.bytes };
  if (all.messages === 0 || trash.folder === null) return null;
  const messages = text.messages(goes.messages, count(goes.messages));
  const sentence = text.trash.purgeText(messages, octets(goes.bytes));
  const guardedText = text.messages(guarded.messages, count(guarded.messages));
  return (
    <section className="card border-go">
      <h2>{text.trash.purgeTitle}</h2>
      <p className="my-2">
        {goes.messages > 0 ? sentence : text.trash.allGuarded}{' '}
        {guarded.messages > 0 && (
          <>
            {text.trash.guardedStay(guardedText)}{' '}
            <Link to={withState(route, { where: 'guarded' })} className="link">
              {text.trash.lookAtThem}
            </Link>
          </>
        )}
      </p>
      <div className="flex flex-wrap items-center gap-2">
        {goes.messages > 0 && (
          <Question
            title={text.trash.sure}
            sentence={sentence}
            {...(guarded.messages > 0 ? { note: text.trash.guardedStay(guardedText) } : {})}
            doIt={text.trash.purge(messages)}
            answer={goes.messages}
            onDo={() =>
              run.mutate({
                action: 'purge',
                label: text.trash.whole,
                where: 'not guarded',
                expect: goes,
                asOf: level.version,
              })
            }
            trigger={
              <button type="button" className="button button-go" disabled={run.isPending}>
                {text.trash.purge(messages)}
              </button>
            }
          />
        )}
        <label className="note flex items-center gap-1">
          {text.trash.olderThan}
          <input
            className="field w-14 text-right"
            inputMode="numeric"
            value={days}
            onChange={(event) => setDays(event.target.value.replace(/\D/g, '').slice(0, 4))}
          />
          {text.trash.olderDays}
        </label>
        {older && older.messages > 0 && (
          <Question
            title={text.trash.sure}
            sentence={text.trash.purgeText(text.messages(older.messages, count(older.messages)), octets(older.bytes))}
            doIt={text.trash.purge(text.messages(older.messages, count(older.messages)))}
            answer={older.messages}
            onDo={() =>
              run.mutate({
                action: 'purge',
                label: text.trash.olderLabel(days),
                where: 'not guarded',
                before: older.before,
                asOf: older.version,
                expect: { messages: older.messages, bytes: older.bytes },
              })
            }
            trigger={
              <button type="button" className="button" disabled={run.isPending}>
                {text.trash.purge(text.messages(older.messages, count(older.messages)))}
              </button>
            }
          />
        )}
        {older?.messages === 0 && <span className="note">{text.trash.olderNone}</span>}
      </div>
      {run.error && (
        <p role="alert" className="mt-2 text-go">
          {run.error.message}
        </p>
      )}
    </section>
  );
}
