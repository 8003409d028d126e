import type { Level } from '../../contract/types';
import { nextStep } from '../../core/level/next-step';
import { useFigures, useScan } from '../api/account';
import { mustGo } from '../level/need';
import { Link } from '../route';
import { text } from '../text';
import { count, percent } from '../text/format';

/** One sentence for somebody whose plan is empty: what to do next, and what comes of it. */
export function NextStep({ level }: { level: Level }) {
  const scan = useScan().data;
  const { octets } = useFigures();
  const { used, limit, targetBytes, trash, trashGuarded, mail } = level;
  const need = mustGo(level);
  if (need && 'messages' in need)
    return need.messages === 0 ? (
      text.next.enough
    ) : (
      <Choose sentence={text.next.mustGo(text.messages(need.messages, count(need.messages)))} />
    );
  const isFirst = mail.messages + trash.messages === 0 || level.unread > 0;
  const isReading = isFirst && (scan?.state === 'queued' || scan?.state === 'running');
  const isRanked = scan?.stage === 'details' || scan?.stage === 'finalizing';
  const reading = isReading ? (isRanked ? 'details' : 'outline') : null;
  const purgeable = trash.bytes - trashGuarded.bytes;
  const step = nextStep({ used, limit, target: targetBytes, purgeable, reading });
  switch (step.kind) {
    case 'wait':
      return text.next.wait;
    case 'look':
      return text.next.look(octets(step.rest));
    case 'set-target':
      return text.next.setTarget;
    case 'nothing':
      return text.next.nothing(percent(step.share), percent(step.target));
    case 'purge':
      return (
        <>
          <Link to="/trash" className="link">
            {text.next.purge}
          </Link>
          {text.next.reaches(octets(step.free))}
        </>
      );
    case 'purge-first':
      return (
        <>
          <Link to="/trash" className="link">
            {text.next.purge}
          </Link>
          {text.next.comeFree(octets(step.free))} <Choose sentence={text.next.moreMustGo(octets(step.rest))} />
        </>
      );
    case 'choose':
      return <Choose sentence={text.next.mustGo(octets(step.rest))} />;
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
