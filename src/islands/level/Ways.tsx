import type { Level } from '../../contract/types';
import { missingNow } from '../../core/level/gauge';
import { useFigures } from '../../ui/api/account';
import { Link } from '../../ui/route';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { Measured, Way } from '../../workers/protocol';

/** What it would take to reach the target, each way alone, side by side. */
export function Ways({ level, measured }: { level: Level; measured: Measured }) {
  const { octets, day } = useFigures();
  const need = missingNow(level);
  if (!need || measured.ways.length === 0) return null;
  const needed = 'bytes' in need ? octets(need.bytes) : text.messages(need.messages, count(need.messages));
  const reached = 'bytes' in need ? need.bytes === 0 : need.messages === 0;
  const short = (way: Way) =>
    'bytes' in need
      ? octets(need.bytes - way.bytes)
      : text.messages(need.messages - way.messages, count(need.messages - way.messages));
  const note = (way: Way) => {
    const sum = octets(way.bytes);
    if (!way.reaches) return text.level.wayShort(sum, short(way));
    if (way.edge === null) return sum;
    if (way.kind === 'largest') return text.level.wayAbove(octets(way.edge), sum);
    return text.level.wayBefore(day(new Date(way.edge * 1000).toISOString()), sum);
  };
  return (
    <section className="card">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.level.ways}</h2>
        <p className="note">
          {reached ? text.tank.reached : text.level.waysNote(needed)}{' '}
          <Link to="/suggestions" className="link">
            {text.level.suggest}
          </Link>
        </p>
      </div>
      {!reached && (
        <div className="grid gap-4 sm:grid-cols-2 xl:grid-cols-4">
          {measured.ways.map((way) => (
            <div key={way.kind} className="way">
              <h3 className="font-normal text-ink-2">{text.level.wayNames[way.kind]}</h3>
              <p className={`figure ${way.reaches ? '' : 'text-ink-2'}`}>
                {text.messages(way.messages, count(way.messages))}
              </p>
              <p className="note">{note(way)}</p>
              {way.messages > 0 && (
                <Link
                  to={way.kind === 'free' ? '/trash' : `/sift?where=${encodeURIComponent(way.where)}`}
                  className="link note"
                  aria-label={way.kind === 'free' ? undefined : text.level.openWay(text.level.wayNames[way.kind])}
                >
                  {way.kind === 'free' ? text.ledger.toTrash : text.senders.inSift}
                </Link>
              )}
            </div>
          ))}
        </div>
      )}
    </section>
  );
}
