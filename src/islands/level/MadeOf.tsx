import { CATEGORIES } from '../../core/categories/categories';
import { useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { Link } from '../../ui/route';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import type { Measured } from '../../workers/protocol';

/** The categories, and what of the octets is attached files. */
export function MadeOf({ measured }: { measured: Measured }) {
  const { octets } = useFigures();
  const { categories, attached, decoded, total } = measured;
  const rows = CATEGORIES.map((category, code) => ({
    category,
    messages: categories.messages[code] ?? 0,
    bytes: categories.bytes[code] ?? 0,
  })).sort((a, b) => b.bytes - a.bytes);
  const largest = Math.max(1, rows[0]?.bytes ?? 1);
  return (
    <section className="card">
      <h2 className="mb-1">{text.level.madeOf}</h2>
      <table className="table">
        <tbody>
          {rows.map(({ category, messages, bytes }) => (
            <tr key={category}>
              <td>
                <Link to={`/sift?where=${encodeURIComponent(`category = ${category}`)}`} className="hover:underline">
                  {text.categories[category]}
                </Link>
              </td>
              <td className="number">{count(messages)}</td>
              <td className="number">{octets(bytes)}</td>
              <td className="w-2/5">
                <Bar share={bytes / largest} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {total.bytes > 0 && (
        <p className="note mt-2">
          {text.level.attachedShare(percent(attached / total.bytes), octets(attached), octets(decoded))}
        </p>
      )}
    </section>
  );
}
