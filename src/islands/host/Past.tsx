import { useMemo } from 'react';
import type { HostMeasurement } from '../../contract/types';
import { Steps } from '../../ui/charts/Steps';
import { text } from '../../ui/text';

const dayOf = (instant: string) => instant.slice(0, 10);

/** How full a mailbox was on each day that it was measured. */
export function Past({ measurements, limit }: { measurements: readonly HostMeasurement[]; limit: number | null }) {
  const readings = useMemo(
    () => measurements.flatMap(({ at, bytes }) => (bytes === null ? [] : [{ at, used: bytes }])),
    [measurements],
  );
  if (readings.length < 2) return null;
  return (
    <section>
      <h3 className="font-semibold">{text.host.details.past}</h3>
      <Steps
        label={text.host.details.past}
        readings={readings}
        limit={limit}
        target={null}
        units="binary"
        timeOf={dayOf}
      />
    </section>
  );
}
