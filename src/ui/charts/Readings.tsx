import { useFigures, useLevel } from '../api/account';
import { text } from '../text';
import { Steps } from './Steps';

/** Every reading of the server's figure over time, stepped, with the limit and the target. */
export function Readings({ title }: { title: string }) {
  const level = useLevel().data;
  const { units, dayAndTime } = useFigures();
  return (
    <section className="card">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2>{title}</h2>
        <p className="note">
          {text.ledger.readings}; – – {text.ledger.target}
        </p>
      </div>
      <Steps
        label={text.ledger.readings}
        readings={level?.readings ?? []}
        limit={level?.limit ?? null}
        target={level?.targetBytes ?? null}
        units={units}
        timeOf={dayAndTime}
      />
    </section>
  );
}
