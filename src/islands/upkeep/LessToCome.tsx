import { useEffect, useRef, useState } from 'react';
import type { BulkSender } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { type BulkSenders, useBulkSenders } from '../../ui/api/bulk-senders';
import { daysWon, useForecast } from '../../ui/api/forecast';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { StandingForm } from './StandingForm';

/** Senders that are shown at first. */
const SHOWN = 12;
const DAY_MS = 86_400_000;

/** Senders of mailings, how each can be asked to stop, and whether it did. */
export function LessToCome() {
  const { octets } = useFigures();
  const { account } = useAccount();
  const found = useBulkSenders();
  const forecast = useForecast().data;
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const [all, setAll] = useState(false);
  const [standing, setStanding] = useState<string>();
  const read = useChange<void, BulkSenders>(
    () => '/bulk-senders/read',
    'POST',
    () => ({}),
    ['bulk-senders'],
  );
  const ask = useChange<string[], BulkSenders>(
    () => '/bulk-senders/ask',
    'POST',
    (senders) => ({ senders, expect: senders.length }),
    ['bulk-senders'],
    () => setMarked(new Set()),
  );
  const unread = found.data?.unread ?? 0;
  const asked = useRef('');
  const { mutate } = read;
  // What is new is read when somebody looks, once for each account and number of them.
  useEffect(() => {
    const key = `${account.id} ${unread}`;
    if (unread === 0 || asked.current === key) return;
    asked.current = key;
    mutate();
  }, [account.id, unread, mutate]);
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  const { senders, reading } = found.data;
  const askable = senders.filter(isAskable);
  const chosen = askable.filter(({ sender }) => marked.has(sender));
  const sum = (of: readonly BulkSender[]) => of.reduce((bytes, sender) => bytes + sender.bytes, 0);
  const shown = all ? senders : senders.slice(0, SHOWN);
  const mark = (sender: string) => {
    const next = new Set(marked);
    if (!next.delete(sender)) next.add(sender);
    setMarked(next);
  };
  return (
    <section className="card" aria-labelledby="less">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="less" className="font-semibold">
          {askable.length > 0 ? text.asking.title(count(askable.length), octets(sum(askable))) : text.asking.titleNone}
        </h2>
        <span className="flex flex-wrap items-center gap-3">
          {askable.length > chosen.length && (
            <button
              type="button"
              className="link"
              onClick={() => setMarked(new Set(askable.map(({ sender }) => sender)))}
            >
              {text.asking.markAll(count(askable.length))}
            </button>
          )}
          <Question
            title={text.asking.question(chosen.length, count(chosen.length))}
            sentence={text.asking.sentence(
              count(chosen.filter(({ way }) => way === 'one-click').length),
              count(chosen.filter(({ way }) => way === 'mail').length),
              account.user,
            )}
            doIt={text.asking.doIt}
            answer={chosen.length}
            onDo={() => ask.mutate(chosen.map(({ sender }) => sender))}
            trigger={
              <button type="button" className="button" disabled={chosen.length === 0 || ask.isPending}>
                {text.asking.askMarked}
              </button>
            }
          />
        </span>
      </div>
      <Refused error={ask.error ?? read.error} />
      {reading && <p className="note">{text.asking.reading(count(unread))}</p>}
      {senders.length === 0 ? (
        <p className="note">{text.asking.none}</p>
      ) : (
        <div className="overflow-x-auto">
          <table className="table">
            <Heads
              of={[
                ['', ''],
                [text.asking.sender, ''],
                [text.asking.month, 'number max-md:hidden'],
                [text.asking.year, 'number'],
                [text.asking.moves, 'number max-md:hidden'],
                [text.asking.how, 'max-md:hidden'],
                [text.asking.state, 'max-md:hidden'],
                [text.asking.stopped, ''],
              ]}
            />
            <tbody>
              {shown.map((sender) => (
                <tr key={sender.sender}>
                  <td className="w-6">
                    <input
                      type="checkbox"
                      aria-label={text.asking.mark(sender.name || sender.sender)}
                      disabled={!isAskable(sender)}
                      checked={marked.has(sender.sender) && isAskable(sender)}
                      onChange={() => mark(sender.sender)}
                    />
                  </td>
                  <td className="max-w-72 truncate" title={sender.sender}>
                    {sender.name || sender.sender}
                  </td>
                  <td className="number max-md:hidden">{count(Math.round(sender.messages / 12))}</td>
                  <td className="number">{octets(sender.bytes)}</td>
                  <td className="number max-md:hidden">{forecast ? moved(daysWon(forecast, sender.bytes)) : '–'}</td>
                  <td className="whitespace-nowrap max-md:hidden">{sender.way ? text.asking.ways[sender.way] : '–'}</td>
                  <td className="whitespace-nowrap max-md:hidden">
                    <State sender={sender} />
                  </td>
                  <td>
                    <Outcome sender={sender} onStanding={() => setStanding(whereOf(sender))} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {!all && senders.length > SHOWN && (
        <button type="button" className="link mt-2" onClick={() => setAll(true)}>
          {text.asking.showAll(count(senders.length))}
        </button>
      )}
      {senders.length > 0 && <p className="note mt-2">{text.asking.note}</p>}
      {standing !== undefined && (
        <StandingForm where={standing} onClose={() => setStanding(undefined)} onMade={() => setStanding(undefined)} />
      )}
    </section>
  );
}

/** By how much the day is moved on which it is full. */
function moved(days: number | null): string {
  if (days === null) return '–';
  return days < 0.5 ? text.asking.movesLess : text.asking.movesBy(Math.round(days));
}

function isAskable({ way, state }: BulkSender): boolean {
  return (way === 'one-click' || way === 'mail') && state !== 'queued' && state !== 'sending' && state !== 'asked';
}

/** Criteria of what a sender sends. */
function whereOf({ sender }: BulkSender): string {
  const quoted = `"${sender.replace(/["\\]/g, '\\$&')}"`;
  return sender.includes('@') ? `from = ${quoted} and age > 30d` : `list = ${quoted} and age > 30d`;
}

function State({ sender: { state, askedAt } }: { sender: BulkSender }) {
  const { day } = useFigures();
  if (!state) return <span className="text-ink-2">–</span>;
  if (askedAt) return text.asking.askedOn(day(askedAt));
  return text.asking.states[state];
}

/** What came since it was asked, or why it is not asked, and what can be done. */
function Outcome({ sender, onStanding }: { sender: BulkSender; onStanding(): void }) {
  const { since, askedAt, problem, why, page } = sender;
  const next = (
    <button type="button" className="link" onClick={onStanding}>
      {text.asking.standing}
    </button>
  );
  if (askedAt && since && since.messages > 0)
    return (
      <>
        <strong>{text.asking.cameSince(count(since.messages))}</strong> · {next}
      </>
    );
  if (askedAt && problem) return <span>{problem.detail}</span>;
  if (askedAt)
    return <span>{text.asking.quiet(Math.max(0, Math.floor((Date.now() - Date.parse(askedAt)) / DAY_MS)))}</span>;
  if (problem)
    return (
      <span className="text-go">
        {problem.detail} {page && <Page page={page} />}
      </span>
    );
  if (why)
    return (
      <span className="text-ink-2">
        {text.asking.why[why]} {page && <Page page={page} />}
      </span>
    );
  return page && sender.way === 'page' ? <Page page={page} /> : null;
}

/** The address of a page, to be opened by hand: Tamsel opens none, and the page learns nothing of where it stood. */
function Page({ page }: { page: string }) {
  return (
    <a href={page} target="_blank" rel="noreferrer noopener" className="link" title={page}>
      {text.asking.openPage(new URL(page).host)}
    </a>
  );
}
