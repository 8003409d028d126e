import { useState } from 'react';
import type { Amount, Lot } from '../../../contract/types';
import type { Measure } from '../../../core/level/gauge';
import { useFigures } from '../../../ui/api/account';
import { Heads } from '../../../ui/Heads';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';
import { LotRow } from './LotRow';

/** The lots in the order in which they count, each to be opened. */
export function LotTable({ lots, total, of }: { lots: Lot[]; total: Amount; of: Measure }) {
  const { octets } = useFigures();
  const [opened, setOpened] = useState<number>();
  const sum = lots.reduce(
    (so, { messages, bytes }) => ({ messages: so.messages + messages, bytes: so.bytes + bytes }),
    { messages: 0, bytes: 0 },
  );
  const overlap = { messages: sum.messages - total.messages, bytes: sum.bytes - total.bytes };
  const vanished = lots.reduce((so, lot) => so + lot.vanished, 0);
  const most = Math.max(1, ...lots.map(({ adds }) => adds[of]));
  return (
    <section className="card">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h1 className="text-[13px]">
          {text.review.title(
            text.strip.lots(lots.length, count(lots.length)),
            text.messages(total.messages, count(total.messages)),
            octets(total.bytes),
          )}
        </h1>
        <p className="note">
          {overlap.messages > 0 &&
            text.review.overlap(octets(overlap.bytes), text.messages(overlap.messages, count(overlap.messages)))}
          {overlap.messages > 0 && vanished > 0 && ' · '}
          {vanished > 0 && text.review.vanished(text.messages(vanished, count(vanished)))}
        </p>
      </div>
      <div className="overflow-x-auto">
        <table className="table">
          <Heads
            of={[
              [text.review.lot],
              [text.review.criteria, 'minor'],
              [text.review.messages, 'number'],
              [text.review.bytes, 'number minor'],
              [text.review.only, 'number minor'],
              [text.review.adds, 'number'],
              ['', 'minor w-[90px]'],
              [text.review.guardedHead, 'number minor'],
              [''],
            ]}
          />
          <tbody>
            {lots.map((lot, index) => (
              <LotRow
                key={lot.id}
                lot={lot}
                most={most}
                of={of}
                place={lots.slice(0, index).filter(({ fate }) => fate === lot.fate).length}
                last={lots.filter(({ fate }) => fate === lot.fate).length - 1}
                open={opened === lot.id}
                onOpen={(open) => setOpened(open ? lot.id : undefined)}
              />
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
