import { useInfiniteQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import type { Lot, LotMessage } from '../../../contract/types';
import { OF_THE_PLAN, useAccount, useChange, useFigures, useGuards } from '../../../ui/api/account';
import { call, query } from '../../../ui/api/call';
import { senderName } from '../../../ui/messages/columns';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { nameOfGuard } from '../guards/nameOfGuard';

type Part = 'held' | 'guarded' | 'excepted';

/** An opened lot: what it holds, what guards keep and which, what was excepted, and the way to split it. */
export function LotParts({ lot }: { lot: Lot }) {
  const [part, setPart] = useState<Part>('held');
  return (
    <div className="grid gap-2 border-l-2 border-line pl-3">
      <div className="flex flex-wrap items-end gap-3">
        {(['held', 'guarded', 'excepted'] as const).map((one) => (
          <button
            key={one}
            type="button"
            aria-pressed={part === one}
            className={`button px-2 ${part === one ? 'button-chief' : ''}`}
            onClick={() => setPart(one)}
          >
            {text.review.parts[one]}
          </button>
        ))}
        <Split lot={lot} />
      </div>
      <Messages key={part} lot={lot} part={part} />
    </div>
  );
}

interface Page {
  messages: LotMessage[];
  next?: string;
}

function Messages({ lot, part }: { lot: Lot; part: Part }) {
  const { account, base } = useAccount();
  const { octets, day } = useFigures();
  const guards = useGuards().data?.guards ?? [];
  const pages = useInfiniteQuery({
    queryKey: ['lots', account.id, lot.id, part],
    queryFn: ({ pageParam }) =>
      call<Page>(`${base}/lots/${lot.id}/messages${query({ part, limit: 50, after: pageParam })}`),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
  });
  const change = useChange<{ id: number; body: (id: number) => unknown }>(
    () => `/lots/${lot.id}`,
    'PATCH',
    ({ id, body }) => body(id),
    OF_THE_PLAN,
  );
  const messages = pages.data?.pages.flatMap((page) => page.messages) ?? [];
  const allowed = messages.filter((message) => message.allowed).map(({ id }) => id);
  const excepted = messages.map(({ id }) => id);
  const without = (ids: number[], id: number) => ids.filter((one) => one !== id);
  const heldBy = (message: LotMessage) => guards.filter(({ id }) => message.guards?.includes(id));
  const action = (message: LotMessage): [string, (id: number) => unknown] | undefined => {
    if (part === 'held') return [text.review.except, (id) => ({ alsoExcept: [id] })];
    if (part === 'excepted')
      return pages.hasNextPage ? undefined : [text.review.takeIn, (id) => ({ except: without(excepted, id) })];
    if (heldBy(message).some(({ kind }) => kind === 'hold') || pages.hasNextPage) return undefined;
    return message.allowed
      ? [text.review.keepAgain, (id) => ({ allow: without(allowed, id) })]
      : [text.review.letThrough, (id) => ({ allow: [...allowed, id] })];
  };
  if (pages.isPending) return <p role="status">{text.states.loading}</p>;
  return (
    <>
      <Refused error={pages.error ?? change.error} />
      {messages.length === 0 && <p className="text-ink-2">{text.review.nonePart}</p>}
      <ul className="max-h-72 overflow-y-auto">
        {messages.map((message) => {
          const does = action(message);
          return (
            <li
              key={message.id}
              className="grid grid-cols-[76px_84px_minmax(80px,0.5fr)_minmax(0,1fr)_auto] gap-2.5 border-b border-hair py-[3px] max-tank:grid-cols-[70px_minmax(0,1fr)_auto]"
            >
              <span className="text-right whitespace-nowrap">{octets(message.size)}</span>
              <span className="minor text-ink-2">{day(message.date ?? message.received)}</span>
              <span className="minor truncate">{senderName(message)}</span>
              <span className="truncate">
                {message.subject || text.sift.noSubject}
                {part === 'guarded' && (
                  <span className="note"> {text.review.keptBy(heldBy(message).map(nameOfGuard).join('; '))}</span>
                )}
              </span>
              <span className="text-right whitespace-nowrap">
                {does && (
                  <button
                    type="button"
                    className="link"
                    disabled={change.isPending}
                    aria-label={`${does[0]}: ${message.subject || text.sift.noSubject}`}
                    onClick={() => change.mutate({ id: message.id, body: does[1] })}
                  >
                    {does[0]}
                  </button>
                )}
              </span>
            </li>
          );
        })}
      </ul>
      {pages.hasNextPage && (
        <button type="button" className="link justify-self-start" onClick={() => void pages.fetchNextPage()}>
          {text.review.more}
        </button>
      )}
    </>
  );
}

/** Makes a lot of its own of what meets criteria. */
function Split({ lot }: { lot: Lot }) {
  const split = useChange<string>(
    () => `/lots/${lot.id}/split`,
    'POST',
    (where) => ({ where }),
    OF_THE_PLAN,
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    split.mutate(`${new FormData(event.currentTarget).get('where') ?? ''}`.trim());
  };
  return (
    <form onSubmit={submit} className="flex flex-wrap items-end gap-2">
      <label className="grid gap-0.5">
        <span className="note">{text.review.splitWhere}</span>
        <input name="where" required className="field w-56 py-0.5 font-mono" placeholder="age > 5y" />
      </label>
      <button type="submit" className="button px-2" disabled={split.isPending}>
        {text.review.splitGo}
      </button>
      <Refused error={split.error} />
    </form>
  );
}
