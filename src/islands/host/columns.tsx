import type { HostMailbox } from '../../contract/types';
import { type Column, markColumn } from '../../ui/grid/Grid';
import { text } from '../../ui/text';
import { count, octets, percent } from '../../ui/text/format';
import { fullIn, isUrgent, saysOf } from './told';

/** A name whose part before the @ stands out. */
export function Name({ of: user }: { of: string }) {
  const at = user.lastIndexOf('@');
  return (
    <>
      <strong>{at < 1 ? user : user.slice(0, at)}</strong>
      {at > 0 && <span className="text-ink-2">{user.slice(at)}</span>}
    </>
  );
}

/** How full, against the limit and the target. */
export function LevelBar({ share, target }: { share: number; target: number }) {
  return (
    <span aria-hidden="true" className="relative block h-[11px] w-full border border-line bg-paper">
      <span className="block h-full bg-water" style={{ width: `${Math.min(1, share) * 100}%` }} />
      <span className="absolute -inset-y-[3px] w-[2px] bg-ink" style={{ left: `calc(${target * 100}% - 1px)` }} />
    </span>
  );
}

/** The columns of the list of mailboxes. */
export function hostColumns(timeZone: string, onOpen: (mailbox: HostMailbox) => void): Column<HostMailbox>[] {
  const heads = text.host.heads;
  const none = <span className="text-ink-2">–</span>;
  return [
    markColumn(),
    {
      key: 'user',
      head: heads.mailbox,
      order: 'user',
      width: 'minmax(120px, 1.5fr)',
      cell: (mailbox) => (
        <button
          type="button"
          // The list has keys of its own.
          tabIndex={-1}
          className="max-w-full truncate text-left hover:underline"
          title={mailbox.note || mailbox.user}
          onClick={(event) => {
            event.stopPropagation();
            onOpen(mailbox);
          }}
        >
          <Name of={mailbox.user} />
        </button>
      ),
    },
    {
      key: 'bar',
      head: <span className="sr-only">{heads.level}</span>,
      width: 'minmax(40px, 1fr)',
      minor: true,
      cell: ({ measured, stated }) =>
        measured?.share == null ? null : <LevelBar share={measured.share} target={stated.target} />,
    },
    {
      key: 'share',
      head: heads.level,
      order: 'share',
      width: '52px',
      align: 'right',
      cell: ({ measured }) => (measured?.share == null ? none : percent(measured.share)),
    },
    {
      key: 'used',
      head: heads.used,
      order: 'used',
      width: '78px',
      align: 'right',
      minor: true,
      cell: ({ measured }) => (measured?.bytes ? octets(measured.bytes.used, 'binary') : none),
    },
    {
      key: 'limit',
      head: heads.limit,
      order: 'limit',
      width: '78px',
      align: 'right',
      minor: true,
      cell: ({ measured }) => (measured?.bytes?.limit == null ? none : octets(measured.bytes.limit, 'binary')),
    },
    {
      key: 'messages',
      head: heads.messages,
      order: 'messages',
      width: '72px',
      align: 'right',
      minor: true,
      cell: ({ measured }) => {
        if (!measured) return none;
        const { bytes, messages } = measured;
        // It is the number that fills the mailbox.
        const fills = messages.limit !== null && measured.share === messages.used / messages.limit && bytes !== null;
        return fills ? <strong>{count(messages.used)}</strong> : count(messages.used);
      },
    },
    {
      key: 'full',
      head: heads.full,
      order: 'full',
      width: '132px',
      minor: true,
      cell: (mailbox) => (
        <span className={isUrgent(mailbox) ? 'font-semibold' : 'text-ink-2'}>{fullIn(mailbox, timeZone)}</span>
      ),
    },
    {
      key: 'state',
      head: heads.state,
      order: 'state',
      width: 'minmax(84px, 1fr)',
      cell: (mailbox) => {
        const said = mailbox.measuring ? text.host.states.measuring : saysOf(mailbox);
        const isQuiet = mailbox.states[0] === 'fine' || mailbox.measuring;
        return (
          <span title={mailbox.problem?.detail ?? said} className={isQuiet ? 'text-ink-2' : ''}>
            {said}
          </span>
        );
      },
    },
  ];
}
