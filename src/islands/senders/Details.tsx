import { useQueries, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { NewestMessage } from '../../contract/types';
import { useAccount, useFigures, useLevel } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Link } from '../../ui/route';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import type { SenderRow } from '../../workers/protocol';
import type { Verb } from './Deciding';
import { otherForm, titleOf } from './sender';
import { YearBars } from './YearBars';

/** All that is known of a sender, so that nobody decides on a name alone. */
export function Details({
  sender,
  where,
  onClose,
  onAct,
}: {
  sender: SenderRow | undefined;
  where: string;
  onClose(): void;
  onAct(verb: Verb, sender: SenderRow): void;
}) {
  return (
    <Sheet title={sender ? titleOf(sender).title : ''} open={sender !== undefined} onClose={onClose}>
      {sender && (
        <>
          <div className="flex flex-wrap gap-1.5">
            {(['keep', 'trash', 'older', 'newest'] as const).map((verb) => (
              <button key={verb} type="button" className="button px-2" onClick={() => onAct(verb, sender)}>
                {text.senders[verb]}
              </button>
            ))}
            <button type="button" className="button px-2" onClick={() => onAct('ask later', sender)}>
              {text.senders.later}
            </button>
            <Link
              to={`/sift?where=${encodeURIComponent(where === '' ? sender.where : `(${where}) and ${sender.where}`)}`}
              className="link ml-auto self-center"
            >
              {text.senders.inSift}
            </Link>
          </div>
          <Facts sender={sender} />
          <Newest sender={sender} />
        </>
      )}
    </Sheet>
  );
}

function Facts({ sender }: { sender: SenderRow }) {
  const { octets, day } = useFigures();
  const level = useLevel().data;
  const instant = (seconds: number) => day(new Date(seconds * 1000).toISOString());
  const unicode = otherForm(sender.key);
  const facts: [string, React.ReactNode][] = [
    [text.senders[sender.by], `${sender.key}${unicode ? ` (${unicode} ${text.senders.aka})` : ''}`],
    ...(sender.names.length > 0
      ? [[text.senders.names, <Names key="names" names={sender.names} />] as [string, React.ReactNode]]
      : []),
    [text.review.messages, count(sender.messages)],
    [
      text.review.bytes,
      `${octets(sender.bytes)}${level ? `, ${percent(sender.bytes / Math.max(1, level.mail.bytes))}` : ''}`,
    ],
    [text.senders.aMonth, octets(sender.month)],
    [text.senders.first, `${instant(sender.first)}, ${text.senders.lastHead.toLowerCase()} ${instant(sender.last)}`],
    [text.senders.unseen, percent(sender.unseen / sender.messages)],
    [text.senders.answered, count(sender.answered)],
    [text.senders.flagged, count(sender.flagged)],
    [text.senders.written, count(sender.written)],
    [text.senders.largest, octets(sender.largest)],
    [text.senders.attachments, text.senders.attachmentsOf(count(sender.withFiles), octets(sender.attached))],
    [
      text.senders.category,
      <>
        {sender.categories
          .map(({ category, messages }) => `${text.categories[category]} ${count(messages)}`)
          .join(', ')}{' '}
        <span className="note">
          {text.look.because(
            (sender.signs.length > 0 ? sender.signs : ['noSign']).map((sign) => text.reasons[sign] ?? sign).join('; '),
          )}
        </span>
      </>,
    ],
    [
      text.senders.unsubscribe,
      sender.unsubscribable > 0
        ? text.senders.unsubscribeYes(count(sender.unsubscribable))
        : text.senders.unsubscribeNo,
    ],
  ];
  return (
    <>
      <section className="border-y border-line py-2">
        <h3 className="flex justify-between font-semibold">
          <span>{text.senders.evidenceHead}</span>
          <span className="figure">{sender.evidence}</span>
        </h3>
        <p>
          {sender.reasons.length > 0
            ? sender.reasons.map(({ reason, number }) => text.senders.reasons[reason](number)).join('; ')
            : text.senders.noReasons}
        </p>
      </section>
      <YearBars years={sender.years} tall />
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 wrap-anywhere">
        {facts.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

/** Names that are shown at first: a mailing may go by hundreds. */
const FIRST_NAMES = 8;

function Names({ names }: { names: readonly string[] }) {
  const [all, setAll] = useState(false);
  const shown = all ? names : names.slice(0, FIRST_NAMES);
  const more = names.length - shown.length;
  return (
    <>
      {shown.join(', ')}{' '}
      {more > 0 && (
        <button type="button" className="link" onClick={() => setAll(true)}>
          {text.senders.andMore(more, count(more))}
        </button>
      )}
    </>
  );
}

/** How many of the newest show their first lines, and how many lines. */
const WITH_LINES = 3;
const LINES = 3;

/** The newest subjects, and the first lines of a few, which the mail server gives now; nothing remote is fetched. */
function Newest({ sender }: { sender: SenderRow }) {
  const { account, base } = useAccount();
  const { octets, day } = useFigures();
  const newest = useQuery({
    queryKey: ['newest', account.id, sender.by, sender.key],
    queryFn: () => call<NewestMessage[]>(`${base}/senders/${encodeURIComponent(sender.key)}/newest?by=${sender.by}`),
    enabled: sender.key !== '',
  });
  const lines = useQueries({
    queries: (newest.data ?? []).slice(0, WITH_LINES).map(({ id }) => ({
      queryKey: ['text', account.id, id],
      queryFn: () => call<string>(`${base}/messages/${id}/text`),
    })),
  });
  return (
    <section>
      <h3 className="font-semibold">{text.senders.newestOf}</h3>
      {newest.error && (
        <p role="alert" className="text-go">
          {newest.error.message}
        </p>
      )}
      {newest.isPending && sender.key !== '' && <p role="status">{text.states.loading}</p>}
      <ul>
        {newest.data?.map(({ id, subject, date, size }, index) => (
          <li key={id} className="border-b border-hair py-1.5">
            <span className="flex justify-between gap-3">
              <span className="min-w-0 wrap-anywhere">{subject || text.sift.noSubject}</span>
              <span className="note whitespace-nowrap">
                {day(date)} · {octets(size)}
              </span>
            </span>
            {lines[index]?.error && <p className="text-go">{lines[index].error.message}</p>}
            {lines[index]?.data !== undefined && (
              <p className="note whitespace-pre-line wrap-anywhere">{firstLines(lines[index].data)}</p>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function firstLines(body: string): string {
  const lines = body
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean);
  return lines.slice(0, LINES).join('\n').slice(0, 300) || text.senders.noLines;
}
