import { useQuery } from '@tanstack/react-query';
import type { ArchivedDetails, Message } from '../../contract/types';
import { useAccount, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { senderName } from '../../ui/messages/columns';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';

/** A message of the archive as it was, with its files. */
export function Look({ message, onClose }: { message: Message | undefined; onClose(): void }) {
  return (
    <Sheet title={message ? message.subject || text.sift.noSubject : ''} open={message !== undefined} onClose={onClose}>
      {message && <Facts message={message} />}
    </Sheet>
  );
}

function Facts({ message }: { message: Message }) {
  const { base, account } = useAccount();
  const { octets, dayAndTime } = useFigures();
  const path = `${base}/archive/messages/${message.id}`;
  const { data: details, error } = useQuery({
    queryKey: ['archived', account.id, message.id],
    queryFn: () => call<ArchivedDetails>(path),
  });
  const pairs: [string, string][] = [
    [text.sift.from, senderName(message)],
    [text.archive.to, details?.to.map(({ name, address }) => name || address).join(', ') ?? ''],
    [text.look.size, octets(message.size)],
    [text.look.received, dayAndTime(message.received)],
    [text.look.date, message.date ? dayAndTime(message.date) : text.sift.unreadable],
    [text.archive.wasIn, message.folder],
    ...(message.keywords.length > 0 ? [[text.look.keywords, message.keywords.join(', ')] as [string, string]] : []),
  ];
  return (
    <>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 wrap-anywhere">
        {pairs.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      {details?.damaged && <p className="text-go">{text.archive.isDamaged}</p>}
      <p>
        <a className="button" href={`/api${path}/eml`} download>
          {text.archive.saveEml}
        </a>
      </p>
      {details && details.files.length > 0 && (
        <section>
          <h3 className="font-semibold">{text.archive.itsFiles}</h3>
          <ul>
            {details.files.map(({ part, name, size }) => (
              <li key={part} className="flex justify-between gap-3 border-b border-hair py-1">
                <a className="link truncate" href={`/api${path}/files/${encodeURIComponent(part)}`} download>
                  {name || text.files.noName}
                </a>
                <span className="whitespace-nowrap">{octets(size)}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {error ? (
        <p role="alert" className="text-go">
          {error.message}
        </p>
      ) : details ? (
        <pre className="font-sans whitespace-pre-wrap wrap-anywhere">{details.text || text.archive.noText}</pre>
      ) : (
        <p role="status">{text.states.loading}</p>
      )}
    </>
  );
}
