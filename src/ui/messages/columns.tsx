import type { Message } from '../../contract/types';
import { Bar } from '../Bar';
import { type Column, LengthHead, markColumn } from '../grid/Grid';
import { text } from '../text';

/** `jpeg ×3, pdf`: what is attached, by subtype. */
export function attached({ files }: Message): string {
  const kinds = new Map<string, number>();
  for (const { type } of files) {
    const kind = type.split('/')[1] ?? type;
    kinds.set(kind, (kinds.get(kind) ?? 0) + 1);
  }
  return [...kinds].map(([kind, number]) => (number > 1 ? `${kind} ×${number}` : kind)).join(', ');
}

export function senderName({ from }: Pick<Message, 'from'>): string {
  return from ? from.name || from.address : text.sift.noSender;
}

/** A bar beside the size, as long as the size is of the largest in view. */
export function lengthColumn<Row extends { size: number }>(largest: number, kind: 'water' | 'silt'): Column<Row> {
  return {
    key: 'bar',
    head: <LengthHead />,
    width: '44px',
    minor: true,
    cell: ({ size }) => (
      <span className="flex justify-end [&>span]:w-full">
        <Bar share={size / largest} kind={kind} />
      </span>
    ),
  };
}

/** The columns that every list of messages has. */
export function messageColumns(
  figures: { octets(n: number): string; day(at: string): string },
  largest: number,
  kind: 'water' | 'silt',
): Column<Message>[] {
  return [
    markColumn(),
    lengthColumn(largest, kind),
    {
      key: 'size',
      head: text.sift.size,
      width: '78px',
      align: 'right',
      order: 'size',
      cell: ({ size }) => figures.octets(size),
    },
    {
      key: 'date',
      head: text.sift.date,
      width: '84px',
      order: 'date',
      minor: true,
      cell: ({ date, received }) => (
        <span className="text-ink-2" title={date ? undefined : text.sift.unreadable}>
          {figures.day(date ?? received)}
        </span>
      ),
    },
    {
      key: 'from',
      head: text.sift.from,
      width: 'minmax(80px, 1fr)',
      order: 'from',
      cell: (message) => senderName(message),
    },
    {
      key: 'subject',
      head: text.sift.subject,
      width: 'minmax(90px, 2.2fr)',
      order: 'subject',
      cell: ({ subject }) => subject || <span className="text-ink-2">{text.sift.noSubject}</span>,
    },
  ];
}
