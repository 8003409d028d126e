import { OCTETS_IN } from '../../core/units';
import { useAccount, useFigures } from '../../ui/api/account';
import { Link } from '../../ui/route';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { Measured } from '../../workers/protocol';

/** Years and bands of size: where the octets are. Each cell opens in Sift. */
export function Matrix({ measured }: { measured: Measured }) {
  const { units } = useAccount().settings;
  const { octets } = useFigures();
  const unit = units === 'binary' ? 'MiB' : 'MB';
  const { years, bands, matrix } = measured;
  const most = matrix.bytes.reduce((largest, bytes) => Math.max(largest, bytes), 1);
  const short = (edge: number) => octets(edge).replace(/\.0\b/, '');
  const nameOf = (band: number) =>
    band === 0
      ? text.level.under(short(bands[1] ?? 0))
      : band === bands.length - 1
        ? text.level.over(short(bands[band] ?? 0))
        : text.level.between(short(bands[band] ?? 0), short(bands[band + 1] ?? 0));
  const sizeWhere = (band: number) =>
    [
      band > 0 && `size >= ${printed(bands[band] as number, units)}`,
      band < bands.length - 1 && `size < ${printed(bands[band + 1] as number, units)}`,
    ].filter(Boolean) as string[];
  const yearWhere = (year: number) =>
    [
      year > 0 && `received >= ${years[year]}-01-01`,
      year < years.length - 1 && `received < ${years[year + 1]}-01-01`,
    ].filter(Boolean) as string[];
  const order = bands.map((_, band) => band).reverse();
  return (
    <section className="card overflow-x-auto">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.level.matrix}</h2>
        <p className="note">{text.level.matrixNote(unit)}</p>
      </div>
      <table className="matrix">
        <thead>
          <tr>
            <td />
            {years.map((year, index) => (
              <th key={year} scope="col">
                <Link to={`/sift?where=${encodeURIComponent(yearWhere(index).join(' and '))}`}>
                  {index === 0 ? text.level.untilYear(`${year}`) : year}
                </Link>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {order.map((band) => (
            <tr key={bands[band]}>
              <th scope="row">
                <Link to={`/sift?where=${encodeURIComponent(sizeWhere(band).join(' and '))}`}>{nameOf(band)}</Link>
              </th>
              {years.map((year, index) => {
                const cell = index * bands.length + band;
                const bytes = matrix.bytes[cell] ?? 0;
                const share = bytes / most;
                const where = [...sizeWhere(band), ...yearWhere(index)].join(' and ');
                const messages = count(matrix.messages[cell] ?? 0);
                return (
                  <td key={year} style={{ '--share': Math.sqrt(share).toFixed(3) } as React.CSSProperties}>
                    {bytes > 0 && (
                      <Link
                        to={`/sift?where=${encodeURIComponent(where)}`}
                        aria-label={text.level.cell(
                          `${count(bytes / OCTETS_IN[unit])} ${unit}`,
                          `${year}`,
                          nameOf(band),
                          messages,
                        )}
                        title={text.level.cell(
                          `${count(bytes / OCTETS_IN[unit])} ${unit}`,
                          `${year}`,
                          nameOf(band),
                          messages,
                        )}
                      >
                        {count(bytes / OCTETS_IN[unit])}
                      </Link>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** An edge between bands as criteria write it: decades of kilo, or of mega. */
function printed(octets: number, units: 'binary' | 'decimal'): string {
  const [kilo, mega] = units === 'binary' ? (['KiB', 'MiB'] as const) : (['kB', 'MB'] as const);
  return octets >= OCTETS_IN[mega] ? `${octets / OCTETS_IN[mega]} ${mega}` : `${octets / OCTETS_IN[kilo]} ${kilo}`;
}
