import type { Trial } from '../../contract/types';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

const [WIDTH, HEIGHT, BAR] = [96, 18, 7];

/** What came to a standing lot in each month, as small bars; said in words too. */
export function Months({ months }: { months: Trial['months'] }) {
  const most = Math.max(1, ...months.map(({ messages }) => messages));
  return (
    <svg
      role="img"
      aria-label={text.standing.monthly(months.map(({ messages }) => count(messages)).join(', '))}
      width={WIDTH}
      height={HEIGHT}
      className="fill-ink-3"
    >
      {months.map(({ from, messages }, at) => {
        const height = Math.max(1, (messages / most) * HEIGHT);
        return <rect key={from} x={at * (BAR + 1)} y={HEIGHT - height} width={BAR} height={height} />;
      })}
    </svg>
  );
}
