import { useState } from 'react';
import type { Echo, Lot, Repeats } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useEchoes } from '../../ui/api/repeats';
import { Heads } from '../../ui/Heads';
import { MessagePreview } from '../../ui/messages/MessagePreview';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { More } from './More';
import { useLeft } from './useLeft';

/** Messages that a later one quotes in full, each with the one that holds it. */
export function Echoes({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const echoes = useEchoes();
  const { left, toggle, clear } = useLeft();
  const [open, setOpen] = useState<{ id: number; subject: string }>();
  const list = echoes.data?.pages.flatMap((page) => page.echoes) ?? [];
  const { going, guarded } = found.echoes;
  const chosen = list
    .filter(({ id }) => left.has(id))
    .reduce((sum, { size }) => ({ messages: sum.messages - 1, bytes: sum.bytes - size }), going);
  const mark = useChange<void, Lot>(
    () => '/repeats/echoes/lots',
    'POST',
    () => ({ except: [...left], expect: chosen, label: text.repeats.echoLot }),
    REPEATS_STALE,
    clear,
  );
  if (echoes.error) return <Failed error={echoes.error} retry={() => void echoes.refetch()} />;
  if (!echoes.data) return <Loading />;
  return (
    <section className="card" aria-labelledby="echoes">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 id="echoes" className="min-w-0 flex-1 max-md:basis-full">
          <strong>{text.repeats.echoesTitle(going.messages, count(going.messages), octets(going.bytes))}</strong>{' '}
          {guarded.messages > 0 && text.repeats.echoesGuarded(guarded.messages, count(guarded.messages))}{' '}
          <span className="text-ink-2">{text.repeats.holderStays}</span>
        </h2>
        {chosen.messages > 0 && (
          <button type="button" className="button" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.add(text.messages(chosen.messages, count(chosen.messages)))}
          </button>
        )}
      </div>
      <p className="note mb-1">{text.repeats.echoesNote}</p>
      <Refused error={mark.error} />
      {list.length === 0 ? (
        <p className="note">{found.unread.threads.messages === 0 ? text.repeats.noEchoes : text.repeats.noEchoesYet}</p>
      ) : (
        <div className="overflow-x-auto">
          <table className="table">
            <Heads
              of={[
                ['', ''],
                [text.repeats.wins, 'number'],
                [text.repeats.quoted, ''],
                [text.repeats.from, 'max-md:hidden'],
                [text.repeats.date, 'max-md:hidden'],
                [text.repeats.holder, ''],
                [text.repeats.state, 'max-md:hidden'],
              ]}
            />
            <tbody>
              {list.map((echo) => (
                <OneEcho
                  key={echo.id}
                  echo={echo}
                  isChosen={!left.has(echo.id)}
                  onToggle={() => toggle(echo.id)}
                  onOpen={setOpen}
                />
              ))}
            </tbody>
          </table>
        </div>
      )}
      <More list={echoes} />
      <MessagePreview id={open?.id} title={open?.subject} onClose={() => setOpen(undefined)} />
    </section>
  );
}

function OneEcho({
  echo,
  isChosen,
  onToggle,
  onOpen,
}: {
  echo: Echo;
  isChosen: boolean;
  onToggle(): void;
  onOpen(message: { id: number; subject: string }): void;
}) {
  const { octets, day } = useFigures();
  const { id, subject, from, date, size, state, holder } = echo;
  const title = subject || text.sift.noSubject;
  return (
    <tr>
      <td>
        {state === 'goes' && (
          <input type="checkbox" checked={isChosen} aria-label={text.repeats.takeEcho(title)} onChange={onToggle} />
        )}
      </td>
      <td className="number whitespace-nowrap">{octets(size)}</td>
      <td className="max-w-[300px] truncate">
        <button
          type="button"
          className="link max-w-full truncate"
          title={title}
          onClick={() => onOpen({ id, subject: title })}
        >
          {title}
        </button>
      </td>
      <td className="max-w-[160px] truncate max-md:hidden" title={from?.address}>
        {from?.name || from?.address || text.sift.noSender}
      </td>
      <td className="whitespace-nowrap text-ink-2 max-md:hidden">{date && day(date)}</td>
      <td className="max-w-[240px] truncate">
        {holder && (
          <button
            type="button"
            className="link max-w-full truncate"
            title={holder.subject}
            onClick={() => onOpen({ id: holder.id, subject: holder.subject || text.sift.noSubject })}
          >
            {holder.date && day(holder.date)} {holder.from?.name || holder.from?.address || text.sift.noSender}
          </button>
        )}
      </td>
      <td className="font-semibold whitespace-nowrap max-md:hidden">{text.repeats.states[state]}</td>
    </tr>
  );
}
