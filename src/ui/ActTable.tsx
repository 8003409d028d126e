import type { ReactNode } from 'react';
import type { ActOfOther } from '../contract/types';
import { messagesOfAct, saidOfAct } from './acts';
import { Heads } from './Heads';
import { text } from './text';

/** What somebody did in mailboxes, the newest first, each with who or where, and whether its entry is what was written. */
export function ActTable<Act extends ActOfOther>({
  acts,
  head,
  cell,
  timeOf,
}: {
  acts: readonly Act[];
  /** Of the column that tells the acts apart: by whom, or in which mailbox. */
  head: string;
  cell(act: Act): ReactNode;
  timeOf(instant: string): string;
}) {
  return (
    <div className="overflow-x-auto">
      <table className="table">
        <Heads of={[[text.ledger.when], [head], [text.ledger.what], [text.ledger.others.messages, 'number']]} />
        <tbody>
          {acts.map((act, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: an act has no other identity, and the list is made anew as a whole
            <tr key={index}>
              <td className="text-ink-2 whitespace-nowrap">{timeOf(act.at)}</td>
              <td className="max-w-64 wrap-anywhere">{cell(act)}</td>
              <td className="wrap-anywhere">
                {saidOfAct(act)}
                {!act.sound && (
                  <strong role="alert" className="block text-go">
                    {text.ledger.doubt.broken}
                  </strong>
                )}
              </td>
              <td className="number">{messagesOfAct(act)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
