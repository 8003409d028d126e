import type { Level } from '../../contract/types';
import { gaugeOf } from '../../core/level/gauge';
import { nextStep } from '../../core/level/next-step';
import { useFigures, useScan } from '../api/account';
import { Link } from '../route';
import { text } from '../text';
import { percent } from '../text/format';

/** One sentence for somebody whose plan is empty: what to do next, and what comes of it. */
export function NextStep({ level }: { level: Level }) {
  const scan = useScan().data;
  const figures = useFigures();
  const { of, used, limit, target, trash, trashGuarded } = gaugeOf(level);
  const amount = (number: number) => figures.amount(of, number);
  const isFirst = level.mail.messages + level.trash.messages === 0 || level.unread > 0;
  const isReading = isFirst && (scan?.state === 'queued' || scan?.state === 'running');
  const isRanked = scan?.stage === 'details' || scan?.stage === 'finalizing';
  const reading = isReading ? (isRanked ? 'details' : 'outline') : null;
  const step = nextStep({ used, limit, target, purgeable: trash - trashGuarded, reading });
  switch (step.kind) {
    case 'wait':
      return text.next.wait;
    case 'look':
      return text.next.look(amount(step.rest));
    case 'set-target':
      return text.next.setTarget;
    case 'nothing':
      return limit === null && of === 'messages'
        ? text.next.enough
        : text.next.nothing(percent(step.share), percent(step.target));
    case 'purge':
      return (
        <>
          <Link to="/trash" className="link">
            {text.next.purge}
          </Link>
          {text.next.reaches(amount(step.free))}
        </>
      );
    case 'purge-first':
      return (
        <>
          <Link to="/trash" className="link">
            {text.next.purge}
          </Link>
          {text.next.comeFree(amount(step.free))} <Choose sentence={text.next.moreMustGo(amount(step.rest))} />
        </>
      );
    case 'choose':
      return <Choose sentence={text.next.mustGo(amount(step.rest))} />;
  }
}

function Choose({ sentence }: { sentence: string }) {
  return (
    <>
      {sentence}{' '}
      <Link to="/suggestions" className="link">
        {text.next.suggestions}
      </Link>
      {text.next.orMark}
    </>
  );
}
