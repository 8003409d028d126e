import type { GroupingKind } from '../../core/senders/grouping';
import { bytesAMonth, type GroupOrder } from '../../core/senders/ranking';
import { parseVerdict, printVerdict, type Verdict } from '../../core/senders/verdict';
import type { useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { type Column, LengthHead, markColumn } from '../../ui/grid/Grid';
import { text } from '../../ui/text';
import { age, count, percent } from '../../ui/text/format';
import type { Ranked, SenderRow } from '../../workers/protocol';
import type { Verb } from './Deciding';
import { nameOfSender, titleOf } from './sender';
import { YearBars } from './YearBars';

/** A verdict as it fits its column. */
function shortOf(verdict: Verdict): string {
  if (verdict.kind === 'older') return text.senders.shortOlder(`${verdict.number}${verdict.unit}`);
  if (verdict.kind === 'newest') return text.senders.shortNewest(count(verdict.count));
  return printVerdict(verdict);
}

/** The columns of the ranking: figures beside the bar that makes them comparable. */
export function columnsOf(
  figures: ReturnType<typeof useFigures>,
  view: { by: GroupingKind; order: GroupOrder; decisions: ReadonlyMap<string, string>; ranked: Ranked },
  /** How rows are decided by a finger; undefined where there are keys. */
  touch?: { act(verb: Verb, row: SenderRow): void; look(row: SenderRow): void },
): Column<SenderRow>[] {
  const { by, order, decisions, ranked } = view;
  const quiet = (shown: React.ReactNode) => <span className="text-ink-2">{shown}</span>;
  const lengthOf = (row: SenderRow) =>
    order === 'messages' ? row.messages : order === 'month' ? bytesAMonth(row) : row.bytes;
  if (touch) return touchColumns(figures, view, touch);
  const [from, to] = [ranked.years[0] ?? 0, ranked.years.at(-1) ?? 0];
  return [
    markColumn(),
    {
      key: 'sender',
      head: text.senders.head[by],
      width: 'minmax(96px, 1fr)',
      cell: (row) => {
        const { title, note } = titleOf(row);
        return (
          <span title={row.names.join(', ')} style={{ paddingLeft: row.depth * 16 }}>
            <span className="font-semibold">{title}</span> <span className="note">{note}</span>
          </span>
        );
      },
    },
    {
      key: 'messages',
      head: text.level.count,
      order: 'messages',
      width: '60px',
      align: 'right',
      minor: true,
      cell: ({ messages }) => count(messages),
    },
    order === 'month'
      ? {
          key: 'month',
          head: text.senders.aMonth,
          order: 'month',
          width: '76px',
          align: 'right',
          cell: ({ month }) => figures.octets(month),
        }
      : {
          key: 'bytes',
          head: text.review.bytes,
          order: 'bytes',
          width: '76px',
          align: 'right',
          cell: ({ bytes }) => figures.octets(bytes),
        },
    {
      key: 'length',
      head: <LengthHead />,
      width: '44px',
      minor: true,
      cell: (row) => <Bar share={lengthOf(row) / Math.max(1, ranked.largest)} />,
    },
    {
      key: 'years',
      head: text.senders.years(from, to),
      width: '78px',
      minor: true,
      cell: ({ years }) => <YearBars years={years} />,
    },
    {
      key: 'last',
      head: text.senders.lastHead,
      order: 'last',
      width: '44px',
      align: 'right',
      minor: true,
      cell: ({ last }) => quiet(age(last)),
    },
    {
      key: 'unseen',
      head: text.senders.unseen,
      width: '68px',
      align: 'right',
      minor: true,
      cell: ({ unseen, messages }) => percent(unseen / messages),
    },
    {
      key: 'written',
      head: text.senders.written,
      width: '60px',
      align: 'right',
      minor: true,
      cell: ({ written }) => (written === 0 ? '–' : count(written)),
    },
    {
      key: 'evidence',
      head: text.senders.evidenceShort,
      order: 'evidence',
      width: '112px',
      minor: true,
      cell: ({ evidence, reasons }) => (
        <span
          className="flex items-center gap-2"
          title={reasons.map(({ reason, number }) => text.senders.reasons[reason](number)).join('; ')}
        >
          <span className="w-6 text-right">{evidence}</span>
          <span aria-hidden="true" className="h-[5px] w-[66px] bg-hair">
            <span className="block h-full bg-ink-2" style={{ width: `${evidence}%` }} />
          </span>
        </span>
      ),
    },
    {
      key: 'category',
      head: text.senders.category,
      width: '62px',
      minor: true,
      cell: ({ category }) => quiet(text.categories[category]),
    },
    {
      key: 'decision',
      head: text.senders.decision,
      width: 'minmax(64px, 112px)',
      cell: (row) => {
        const decision = decisions.get(nameOfSender(row));
        const verdict = decision ? parseVerdict(decision) : undefined;
        return verdict ? <strong title={decision}>{shortOf(verdict)}</strong> : '–';
      },
    },
  ];
}

/** What fits a phone: who it is and how much, and the decision by buttons as large as a finger. */
function touchColumns(
  figures: ReturnType<typeof useFigures>,
  { by, decisions }: { by: GroupingKind; decisions: ReadonlyMap<string, string> },
  { act, look }: { act(verb: Verb, row: SenderRow): void; look(row: SenderRow): void },
): Column<SenderRow>[] {
  return [
    markColumn(),
    {
      key: 'sender',
      head: text.senders.head[by],
      order: 'bytes',
      width: 'minmax(80px, 1fr)',
      cell: (row) => {
        const decision = decisions.get(nameOfSender(row));
        const verdict = decision ? parseVerdict(decision) : undefined;
        return (
          <button
            type="button"
            className="block h-11 w-full text-left leading-tight"
            onClick={(event) => {
              event.stopPropagation();
              look(row);
            }}
          >
            <span className="block truncate font-semibold">{titleOf(row).title}</span>
            <span className="note block truncate">
              {figures.octets(row.bytes)}
              {verdict ? ` · ${shortOf(verdict)}` : ` · ${text.messages(row.messages, count(row.messages))}`}
            </span>
          </button>
        );
      },
    },
    {
      key: 'decision',
      head: text.senders.decision,
      width: '124px',
      cell: (row) => (
        <span className="flex gap-1">
          {(['keep', 'trash'] as const).map((verb) => (
            <button
              key={verb}
              type="button"
              className="button h-11 flex-1 px-1"
              aria-label={`${text.senders[verb]}: ${titleOf(row).title}`}
              onClick={(event) => {
                event.stopPropagation();
                act(verb, row);
              }}
            >
              {text.senders[verb]}
            </button>
          ))}
        </span>
      ),
    },
  ];
}
