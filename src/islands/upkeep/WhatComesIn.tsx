import type { Forecast } from '../../contract/types';
import { useAccount, useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { Heads } from '../../ui/Heads';
import { text } from '../../ui/text';
import { count, monthAndYear } from '../../ui/text/format';

/** When what happens, and what fills the mailbox. */
export function WhatComesIn({ forecast }: { forecast: Forecast }) {
  const { octets } = useFigures();
  const { settings } = useAccount();
  const { dates, categories, growth, notMail } = forecast;
  const by = [...categories].sort((a, b) => b.bytes - a.bytes).filter(({ bytes }) => bytes > 0);
  const most = Math.max(1, by[0]?.bytes ?? 0, notMail.growth?.mean ?? 0);
  return (
    <section className="card" aria-labelledby="comes-in">
      {dates.length > 0 && (
        <dl className="mb-3">
          {dates.map(({ what, at, likely }) => (
            <div key={what} className="flex justify-between gap-3 border-b border-hair py-1.5">
              <dt className="text-ink-2">
                {text.upkeep.dates[what](what === 'full-messages' ? count(at) : octets(at))}
              </dt>
              <dd className="text-right font-semibold whitespace-nowrap">
                {likely === null ? text.upkeep.tenYears : monthAndYear(likely, settings.timeZone)}
              </dd>
            </div>
          ))}
        </dl>
      )}
      <h2 id="comes-in" className="font-semibold">
        {text.upkeep.comesIn}
      </h2>
      {growth && by.length > 0 ? (
        <table className="table mt-1 w-full">
          <Heads
            of={[
              [text.upkeep.category, ''],
              [text.archive.messages, 'number'],
              [text.archive.bytes, 'number'],
              ['', ''],
            ]}
          />
          <tbody>
            {by.map(({ category, bytes, messages }) => (
              <tr key={category}>
                <td>{text.categories[category]}</td>
                <td className="number">{count(messages)}</td>
                <td className="number whitespace-nowrap">{octets(bytes)}</td>
                <td className="w-20">
                  <Bar share={bytes / most} />
                </td>
              </tr>
            ))}
            {notMail.growth && (
              <tr>
                <td>{text.upkeep.notMail}</td>
                <td />
                <td className="number whitespace-nowrap">{octets(notMail.growth.mean)}</td>
                <td className="w-20">
                  <Bar share={notMail.growth.mean / most} />
                </td>
              </tr>
            )}
          </tbody>
        </table>
      ) : (
        growth && <p className="note">{text.upkeep.nothingYet}</p>
      )}
      <p className="note mt-2">{text.upkeep.note}</p>
      {notMail.bytes > 0 && (
        <p className="note mt-1">
          {notMail.growth
            ? text.upkeep.notMailBy(notMail.growth.months)
            : text.upkeep.notMailUnknown(octets(notMail.bytes))}
        </p>
      )}
    </section>
  );
}
