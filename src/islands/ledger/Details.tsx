import type { ReactNode } from 'react';
import type { Run } from '../../contract/types';
import { balance } from '../../core/ledger/balance';
import { isOfFiles } from '../../core/plan/fates';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { Heads } from '../../ui/Heads';
import { actionOf, membersOf, reasonIn, runsPath } from '../../ui/run-words';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';
import { count, duration } from '../../ui/text/format';
import { FileOutcomes } from './FileOutcomes';
import { NoRoom } from './NoRoom';
import { Undo } from './Undo';

/** What trying again would not change: the user's own rules, and what is not there. */
const FINAL = new Set([
  ...['guarded', 'held', 'last-copy', 'vanished'],
  ...['signed', 'encrypted', 'malformed', 'alternative', 'no-gain'],
]);

/** Everything that is on record of a run. */
export function Details({ run, onClose }: { run: Run | undefined; onClose(): void }) {
  return (
    <Sheet title={run ? `${text.ledger.open(run.id)}: ${run.label}` : ''} open={run !== undefined} onClose={onClose}>
      {run && <Record run={run} />}
    </Sheet>
  );
}

function Record({ run }: { run: Run }) {
  const { base } = useAccount();
  const { octets, dayAndTime } = useFigures();
  const amount = (members: number, bytes: number) => `${membersOf(run, members)}, ${octets(bytes)}`;
  const rate = run.workedMs > 0 ? (run.done.messages / run.workedMs) * 1_000 : 0;
  const list = `/api${base}/runs/${run.id}/messages`;
  return (
    <>
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 wrap-anywhere">
        <Pair name={text.ledger.what}>{actionOf(run)}</Pair>
        <Pair name={text.ledger.named}>{namedBy(run)}</Pair>
        <Pair name={text.ledger.askedBy}>
          {run.askedBy.user} {run.askedBy.via && text.ledger.via[run.askedBy.via]}, {dayAndTime(run.createdAt)}
        </Pair>
        {run.startedAt && <Pair name={text.ledger.began}>{dayAndTime(run.startedAt)}</Pair>}
        {run.workedMs > 0 && (
          <Pair name={text.ledger.took}>
            {text.ledger.tookRate(duration(run.workedMs / 1_000), membersOf(run, Math.round(rate)))}
          </Pair>
        )}
        <Pair name={text.ledger.asked}>{amount(run.asked.messages, run.asked.bytes)}</Pair>
        <Pair name={text.ledger.done}>
          <span title={`${count(run.done.bytes)} B`}>{amount(run.done.messages, run.done.bytes)}</span>
        </Pair>
        {isOfFiles(run.action) && <Pair name={text.ledger.added}>{amount(run.added.messages, run.added.bytes)}</Pair>}
      </dl>
      <Left run={run} />
      <Figures run={run} />
      <p>
        <Undo run={run} />
      </p>
      {run.space === null ? (
        <>
          <p>
            <a className="link" href={`${list}?format=csv`} download>
              {text.ledger.listCsv}
            </a>
            {' · '}
            <a className="link" href={`${list}?format=jsonl`} download>
              {text.ledger.listLines}
            </a>
          </p>
          <p className="note">{text.ledger.threads}</p>
        </>
      ) : (
        <FileOutcomes run={run} />
      )}
    </>
  );
}

function Pair({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>{children}</dd>
    </>
  );
}

/** The lots with their criteria, or how else the messages were named. */
function namedBy({ selector }: Run): string {
  const lots = selector.named as { label: string; where: string | null }[] | undefined;
  if (lots) return lots.map(({ label, where }) => text.ledger.lot(label, where)).join('; ');
  const [kind = '', value] = Object.entries(selector)[0] ?? [];
  const shown = Array.isArray(value) ? value.join(', ') : `${value}`;
  return text.ledger.selectors[kind]?.(shown) ?? kind;
}

function Left({ run }: { run: Run }) {
  const { octets } = useFigures();
  const again = useChange<undefined, Run>(
    () => runsPath(run),
    'POST',
    () => ({ action: run.action, rest: run.id }),
    ['runs', 'level', 'messages', 'trash', 'spaces'],
  );
  const over = run.state === 'done' || run.state === 'cancelled';
  return (
    <section>
      <h3 className="font-semibold">{text.ledger.leftTitle}</h3>
      {run.left.length === 0 ? (
        <p>{text.ledger.nothingLeft}</p>
      ) : (
        <ul className="mt-1 grid gap-1">
          {run.left.map(({ reason, messages, bytes }) => (
            <li key={reason}>
              {text.ledger.leftReason(count(messages), reasonIn(run, reason))}
              <span className="text-ink-2"> · {octets(bytes)}</span>
            </li>
          ))}
        </ul>
      )}
      <NoRoom run={run} />
      {over && run.left.some(({ reason }) => !FINAL.has(reason)) && (
        <button
          type="button"
          className="button mt-2"
          disabled={again.isPending || again.isSuccess}
          onClick={() => again.mutate(undefined)}
        >
          {text.ledger.tryRest}
        </button>
      )}
      {again.error && (
        <p role="alert" className="mt-1 text-go">
          {again.error.message}
        </p>
      )}
    </section>
  );
}

/** The server's figure and ours at each look, and why they differ where they do. */
function Figures({ run }: { run: Run }) {
  const { octets, dayAndTime } = useFigures();
  const { before, after, settled } = run;
  if (!before) return null;
  const looks = [
    ['before', before],
    ['after', after],
    ['settled', settled && settled.at !== after?.at ? settled : null],
  ] as const;
  const told = run.action === 'purge' && after ? balance({ won: run.done.bytes, before, after, settled }) : undefined;
  return (
    <section className="grid gap-2">
      <h3 className="font-semibold">{text.ledger.figureTitle}</h3>
      <table className="table">
        <Heads of={[[text.ledger.when], [text.ledger.used, 'number'], [text.ledger.counted, 'number']]} />
        <tbody>
          {looks.map(
            ([name, mark]) =>
              mark && (
                <tr key={name}>
                  <td>
                    {text.ledger.figure[name]} <span className="text-ink-2">{dayAndTime(mark.at)}</span>
                  </td>
                  <td className="number" title={mark.used === null ? undefined : `${count(mark.used)} B`}>
                    {mark.used === null ? '–' : octets(mark.used)}
                  </td>
                  <td className="number" title={`${count(mark.counted + (mark.files ?? 0))} B`}>
                    {octets(mark.counted + (mark.files ?? 0))}
                  </td>
                </tr>
              ),
          )}
        </tbody>
      </table>
      {told && (
        <p>
          {text.ledger.expected(octets(told.expected))}{' '}
          {told.reported !== null && text.ledger.reported(octets(told.reported))}{' '}
          {told.reasons.map(({ reason, bytes }) => text.ledger.differs[reason](octets(bytes))).join(' ')}{' '}
          {told.settledAt && told.reasons.length > 0 && text.ledger.followed(dayAndTime(told.settledAt))}{' '}
          {told.notMail !== null && told.notMail > 0 && text.ledger.notMail(octets(told.notMail))}
        </p>
      )}
    </section>
  );
}
