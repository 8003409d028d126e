import { useCallback, useState } from 'react';
import type { GroupingKind } from '../../core/senders/grouping';
import type { GroupOrder } from '../../core/senders/ranking';
import { useFigures, useScan } from '../../ui/api/account';
import { useColumns } from '../../ui/columns/provider';
import { useAsked } from '../../ui/columns/useAsked';
import { Grid } from '../../ui/grid/Grid';
import { everything, isEmpty, isMarked, keyMarks, type Marking, nothing } from '../../ui/grid/marking';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { useTouch } from '../../ui/useTouch';
import type { RankRequest, SenderRow } from '../../workers/protocol';
import { columnsOf } from './columns';
import { Deciding, type Prompt, PromptDialog } from './Deciding';
import { Details } from './Details';
import { titleOf } from './sender';
import { type Decidable, useVerdicts } from './useVerdicts';

const idOf = ({ id }: SenderRow) => id;
const MARGIN = 15;

/** The ranking: read row by row, decided by single keys, opened into parts. */
export function Ranking({
  where,
  by,
  order,
  descending,
  onOrder,
}: {
  where: string;
  by: GroupingKind;
  order: GroupOrder;
  descending: boolean;
  onOrder(by: string): void;
}) {
  const figures = useFigures();
  const touch = useTouch();
  const scan = useScan().data;
  const isReading = scan?.state === 'running' && scan.outline != null;
  const client = useColumns();
  const [view, setView] = useState({ first: 0, count: 60 });
  const [opened, setOpened] = useState<string[]>([]);
  const [marking, setMarking] = useState<Marking<string>>(nothing());
  const [looked, setLooked] = useState<SenderRow>();
  const [prompt, setPrompt] = useState<Prompt>();
  const [told, setTold] = useState('');
  const { decisions, decide, undo, canUndo, error: refused } = useVerdicts(where);
  const request: RankRequest = { where, by, order, descending, opened, ...view };
  const { data, error, ask } = useAsked('rank', request);
  const changeView = useCallback((first: number, last: number) => {
    setView({ first: Math.max(0, first - MARGIN), count: last - first + 1 + 2 * MARGIN });
  }, []);
  if (error) return <Failed error={error} retry={() => void ask()} />;
  if (!data || !client) return <Loading />;
  const { rows, first } = data;

  const decidable = (row: SenderRow): Decidable => ({ by: row.by, key: row.key, label: titleOf(row).title });
  /** What a decision is on: what is marked, else the row of the cursor. */
  const meant = async (row: SenderRow | undefined): Promise<Decidable[]> => {
    if (isEmpty(marking)) return row ? [decidable(row)] : [];
    const all = await client.call('groups', request);
    return all.filter(({ id }) => isMarked(marking, id)).map(({ id: _, ...sender }) => sender);
  };
  const submit = async (row: SenderRow | undefined, verdict: string) => {
    const senders = (await meant(row)).filter(({ key }) => key !== '' || verdict !== 'keep');
    if (senders.length === 0) return;
    decide(senders, verdict);
    setMarking(nothing());
    setTold(verdict === '' ? text.senders.takenBack(namesOf(senders)) : text.senders.took(namesOf(senders), verdict));
  };
  const takeBack = () => {
    const senders = undo();
    if (senders.length > 0) setTold(text.senders.takenBack(namesOf(senders)));
  };
  const act = (verb: Prompt['kind'] | 'keep' | 'trash' | 'ask later', row: SenderRow | undefined) => {
    if (verb === 'older' || verb === 'newest') setPrompt({ kind: verb, row });
    else void submit(row, verb);
  };
  const open = (row: SenderRow, wanted: boolean) => {
    if (row.opens && opened.includes(row.id) !== wanted)
      setOpened((now) => (wanted ? [...now, row.id] : now.filter((id) => id !== row.id)));
  };
  const onKey = (key: string, row: SenderRow | undefined): boolean => {
    const verbs: Record<string, Parameters<typeof act>[0]> = {
      k: 'keep',
      t: 'trash',
      o: 'older',
      n: 'newest',
      l: 'ask later',
    };
    const verb = verbs[key.toLowerCase()];
    if (verb) act(verb, row);
    else if (key.toLowerCase() === 'u') takeBack();
    else if (key === 'Backspace') void submit(row, '');
    else if (key === 'ArrowRight' && row) open(row, true);
    else if (key === 'ArrowLeft' && row) open(row, false);
    else return false;
    return true;
  };
  const marked = marking.kind === 'some' ? marking.keys.size : data.groups - marking.except.size;
  return (
    <section className="card flex min-h-0 min-w-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <p role="status">
          <strong>
            {text.senders.summary(
              text.senders.count[by](data.groups, count(data.groups)),
              text.messages(data.total.messages, count(data.total.messages)),
              figures.octets(data.total.bytes),
            )}
          </strong>{' '}
          {data.groups > 5 && data.total.bytes > 0 && (
            <span className="text-ink-2">{text.senders.firstFive(percent(data.firstFive / data.total.bytes))}</span>
          )}
        </p>
        {isReading && (
          <p role="status" className="note">
            {text.scan.soFar}
          </p>
        )}
        {data.waiting.map((key) => (
          <p key={key} role="status" className="note">
            {text.sift.looking(key)}
          </p>
        ))}
        <p role="status" aria-live="polite" className="note ml-auto truncate">
          {marked > 0 ? text.senders.marked(count(marked)) : told}
        </p>
        <Deciding canUndo={canUndo} onAct={(verb) => act(verb, undefined)} onUndo={takeBack} marked={marked} />
      </div>
      <Refused error={refused} />
      <Grid
        label={text.senders.label}
        columns={columnsOf(
          figures,
          { by, order, decisions, ranked: data },
          touch ? { act, look: setLooked } : undefined,
        )}
        count={data.count}
        total={data.count}
        rowAt={(index) => rows[index - first]}
        keyOf={idOf}
        marks={{
          ...keyMarks(rows, idOf, marking, setMarking),
          toggle: (index) => keyMarks(rows, idOf, marking, setMarking).toggle(index - first),
          range: (from, to, on) => keyMarks(rows, idOf, marking, setMarking).range(from - first, to - first, on),
          all: () => setMarking(everything()),
        }}
        ordered={{ by: order, descends: descending, change: onOrder }}
        onView={changeView}
        onOpen={(row: SenderRow) => setLooked(row)}
        onDelete={(row) => act('trash', row)}
        onKey={onKey}
        branch={(row) => ({ level: row.depth + 1, open: row.opens ? opened.includes(row.id) : undefined })}
        empty={text.senders.nothing}
      />
      {!touch && <p className="note mt-2">{text.senders.keys}</p>}
      <Details
        sender={looked}
        where={where}
        onClose={() => setLooked(undefined)}
        onAct={(verb, row) => {
          setLooked(undefined);
          act(verb, row);
        }}
      />
      <PromptDialog
        prompt={prompt}
        onClose={() => setPrompt(undefined)}
        onDecide={(verdict) => {
          setPrompt(undefined);
          void submit(prompt?.row, verdict);
        }}
      />
    </section>
  );
}

function namesOf(senders: readonly Decidable[]): string {
  return senders.length === 1 ? (senders[0] as Decidable).label : text.senders.several(count(senders.length));
}
