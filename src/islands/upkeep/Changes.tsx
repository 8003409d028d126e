import type { Forecast } from '../../contract/types';
import { useAccount } from '../../ui/api/account';
import { firstFull } from '../../ui/api/forecast';
import { text } from '../../ui/text';
import { monthAndYear } from '../../ui/text/format';

/** What each standing lot moves, one after the other. */
export function Changes({ forecast }: { forecast: Forecast }) {
  const { settings } = useAccount();
  const { changes } = forecast;
  if (changes.length === 0) return null;
  const when = (likely: string | null | undefined) =>
    likely ? monthAndYear(likely, settings.timeZone) : text.upkeep.tenYears;
  return (
    <section className="card" aria-labelledby="changes">
      <h2 id="changes" className="font-semibold">
        {text.upkeep.changes}
      </h2>
      <dl className="mt-1">
        <div className="flex justify-between gap-3 border-b border-hair py-1.5">
          <dt className="text-ink-2">{text.upkeep.asItGoes}</dt>
          <dd className="text-right font-semibold whitespace-nowrap">{when(firstFull(forecast)?.likely)}</dd>
        </div>
        {changes.map(({ standing, label, isOn, likely }) => (
          <div key={standing} className="flex justify-between gap-3 border-b border-hair py-1.5">
            <dt className="min-w-0 wrap-anywhere">
              {text.upkeep.with(label)}
              {!isOn && <span className="note block">{text.upkeep.notStarted}</span>}
            </dt>
            <dd className="text-right font-semibold whitespace-nowrap">{when(likely)}</dd>
          </div>
        ))}
      </dl>
      <p className="note mt-2">{text.upkeep.changesNote}</p>
    </section>
  );
}
