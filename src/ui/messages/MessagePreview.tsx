import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import type { Message, MessageDetails } from '../../contract/types';
import { CATEGORIES } from '../../core/categories/categories';
import { fold } from '../../core/text';
import { useAccount, useChange, useFigures } from '../api/account';
import { call } from '../api/call';
import { Sheet } from '../Sheet';
import { text } from '../text';
import { senderName } from './columns';

/** A thread as its messages' ids and sizes, oldest first. */
interface Thread {
  ids: number[];
  sizes: number[];
}

/** A quiet look at one message: what it is, its text as text. Nothing remote is fetched and nothing is marked as seen. */
export function MessagePreview({
  id,
  title,
  onClose,
  thread,
  onMarkThread,
}: {
  id: number | undefined;
  title: string | undefined;
  onClose(): void;
  /** Gives the thread, where the message is in one. */
  thread?: (() => Promise<Thread>) | undefined;
  onMarkThread?(ids: number[]): void;
}) {
  return (
    <Sheet title={title ?? ''} open={id !== undefined} onClose={onClose}>
      {id !== undefined && (
        <Facts id={id}>{thread && <ThreadOf id={id} thread={thread} onMark={onMarkThread} />}</Facts>
      )}
    </Sheet>
  );
}

function ThreadOf({
  id,
  thread,
  onMark,
}: {
  id: number;
  thread(): Promise<Thread>;
  onMark: ((ids: number[]) => void) | undefined;
}) {
  const { base, account } = useAccount();
  const { octets } = useFigures();
  const found = useQuery({ queryKey: ['thread', account.id, id], queryFn: thread }).data;
  const ids = found?.ids.slice(0, MAX_IN_THREAD).join(',') ?? '';
  const messages = useQuery({
    queryKey: ['thread-messages', account.id, ids],
    queryFn: () => call<{ messages: Message[] }>(`${base}/messages?ids=${ids}`),
    enabled: ids !== '',
  }).data?.messages;
  if (!found || !messages) return null;
  const byId = new Map(messages.map((message) => [message.id, message]));
  const bytes = found.sizes.reduce((sum, size) => sum + size, 0);
  return (
    <section className="max-h-60 shrink-0 overflow-y-auto border-y border-line py-2">
      <div className="flex items-baseline justify-between gap-3">
        <h3 className="font-semibold">{text.look.thread(found.ids.length, octets(bytes))}</h3>
        {onMark && (
          <button type="button" className="link" onClick={() => onMark(found.ids)}>
            {text.look.markThread}
          </button>
        )}
      </div>
      <ul>
        {found.ids.slice(0, MAX_IN_THREAD).map((one, index) => {
          const message = byId.get(one);
          return (
            <li key={one} className="flex justify-between gap-3 border-b border-hair py-1">
              <span className="truncate">
                {message && `${senderName(message)}: ${message.subject || text.sift.noSubject}`}
              </span>
              <span className="whitespace-nowrap">{octets(found.sizes[index] ?? 0)}</span>
            </li>
          );
        })}
      </ul>
    </section>
  );
}

const MAX_IN_THREAD = 200;

/** What is known of a message, then what the caller adds, then its text. */
function Facts({ id, children }: { id: number; children: ReactNode }) {
  const { base, account } = useAccount();
  const { octets, dayAndTime } = useFigures();
  const message = useQuery({
    queryKey: ['message', account.id, id],
    queryFn: async () => (await call<{ messages: Message[] }>(`${base}/messages?ids=${id}`)).messages[0],
  }).data;
  const details = useQuery({
    queryKey: ['look', account.id, id],
    queryFn: () => call<MessageDetails>(`${base}/messages/${id}`),
  });
  const body = useQuery({
    queryKey: ['text', account.id, id],
    queryFn: () => call<string>(`${base}/messages/${id}/text`),
  });
  const error = details.error ?? body.error;
  if (!message) return <p role="status">{text.states.loading}</p>;
  return (
    <>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 wrap-anywhere">
        <dt className="text-ink-2">{text.sift.from}</dt>
        <dd>
          {senderName(message)} {message.from?.name && <span className="text-ink-2">{message.from.address}</span>}
        </dd>
        <dt className="text-ink-2">{text.look.size}</dt>
        <dd>{octets(message.size)}</dd>
        <dt className="text-ink-2">{text.look.received}</dt>
        <dd>{dayAndTime(message.received)}</dd>
        <dt className="text-ink-2">{text.look.date}</dt>
        <dd>{message.date ? dayAndTime(message.date) : text.sift.unreadable}</dd>
        <dt className="text-ink-2">{text.look.folder}</dt>
        <dd>{message.folder}</dd>
        {message.keywords.length > 0 && (
          <>
            <dt className="text-ink-2">{text.look.keywords}</dt>
            <dd>{message.keywords.join(', ')}</dd>
          </>
        )}
        <dt className="text-ink-2">{text.look.category}</dt>
        <dd>
          {text.categories[message.category]}
          {details.data && (
            <span className="note">
              {' '}
              {text.look.because(details.data.reasons.map((reason) => text.reasons[reason] ?? reason).join('; '))}
            </span>
          )}
          <Correction message={message} />
        </dd>
        {details.data && (
          <>
            <dt className="text-ink-2">{text.look.to}</dt>
            <dd>{details.data.to.map(({ name, address }) => name || address).join(', ')}</dd>
          </>
        )}
      </dl>
      {message.flaws.length > 0 && <p className="note">{text.look.flaws(message.flaws.join(', '))}</p>}
      {message.files.length > 0 && (
        <ul className="border-y border-hair py-2">
          {message.files.map((file, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: files have no identity but their place
            <li key={index} className="flex justify-between gap-4">
              <span className="truncate">{file.name || file.type}</span>
              <span>{octets(file.size)}</span>
            </li>
          ))}
        </ul>
      )}
      {children}
      {error ? (
        <p role="alert" className="text-go">
          {error.message}
        </p>
      ) : (
        body.isPending && <p role="status">{text.look.reading}</p>
      )}
      {body.data !== undefined && (
        <pre className="font-mono text-[12px] whitespace-pre-wrap wrap-anywhere">{body.data || text.look.noText}</pre>
      )}
      {details.data?.header && (
        <details>
          <summary>{text.look.header}</summary>
          <pre className="mt-2 overflow-x-auto font-mono text-[11.5px]">{details.data.header}</pre>
        </details>
      )}
    </>
  );
}

/** What the user says of all that a sender sends, in place of its signs. */
function Correction({ message }: { message: Message }) {
  const correct = useChange<string>(
    () => '/categories',
    'POST',
    (category) => ({ by: 'address', key: message.from?.address, category: category || null }),
    ['message', 'look', 'corrections'],
  );
  const { base, account } = useAccount();
  const corrections = useQuery({
    queryKey: ['corrections', account.id],
    queryFn: () => call<{ corrections: { by: string; key: string; category: string }[] }>(`${base}/categories`),
  }).data?.corrections;
  const address = message.from?.address ?? '';
  if (address === '' || !corrections) return null;
  const said = corrections.find(({ by, key }) => by === 'address' && key === fold(address))?.category ?? '';
  return (
    <label className="mt-1 flex flex-wrap items-center gap-2">
      <span className="note">{text.look.correct(senderName(message))}</span>
      <select
        className="field py-0.5"
        value={said}
        disabled={correct.isPending}
        onChange={(event) => correct.mutate(event.target.value)}
      >
        <option value="">{text.look.asTold}</option>
        {CATEGORIES.map((category) => (
          <option key={category} value={category}>
            {text.categories[category]}
          </option>
        ))}
      </select>
    </label>
  );
}
