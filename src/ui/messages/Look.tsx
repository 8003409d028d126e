import { useQuery } from '@tanstack/react-query';
import { useAccount, useFigures } from '../api/account';
import { call } from '../api/call';
import type { Message, MessageDetails } from '../api/types';
import { Sheet } from '../Sheet';
import { text } from '../text';
import { senderName } from './columns';

/** A quiet look at one message: what it is, its text as text. Nothing remote is fetched and nothing is marked as seen. */
export function Look({ message, onClose }: { message: Message | undefined; onClose(): void }) {
  return (
    <Sheet title={message?.subject || text.sift.noSubject} open={message !== undefined} onClose={onClose}>
      {message && <Facts message={message} />}
    </Sheet>
  );
}

function Facts({ message }: { message: Message }) {
  const { base } = useAccount();
  const { octets, dayAndTime } = useFigures();
  const details = useQuery({
    queryKey: ['look', message.id],
    queryFn: () => call<MessageDetails>(`${base}/messages/${message.id}`),
  });
  const body = useQuery({
    queryKey: ['text', message.id],
    queryFn: () => call<string>(`${base}/messages/${message.id}/text`),
  });
  const error = details.error ?? body.error;
  return (
    <>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 break-words">
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
      {error ? (
        <p role="alert" className="text-go">
          {error.message}
        </p>
      ) : (
        body.isPending && <p role="status">{text.look.reading}</p>
      )}
      {body.data !== undefined && (
        <pre className="font-mono text-[12px] whitespace-pre-wrap break-words">{body.data || text.look.noText}</pre>
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
