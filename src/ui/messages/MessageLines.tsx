import { useState } from 'react';
import { useFigures } from '../api/account';
import { text } from '../text';
import { count } from '../text/format';
import { useDetails } from './useDetails';

/** So many are shown at first. */
const SHOWN = 12;

/** Some messages by their subjects. */
export function MessageLines({ title, ids }: { title: string; ids: readonly number[] }) {
  const { octets, day } = useFigures();
  const [all, setAll] = useState(false);
  const shown = all ? ids : ids.slice(0, SHOWN);
  const details = useDetails(shown);
  return (
    <div>
      <h3 className="font-semibold">{title}</h3>
      <ul className="mt-1">
        {shown.map((id) => {
          const message = details.get(id);
          if (!message) return null;
          const flags = (['flagged', 'answered', 'seen'] as const).filter((flag) => message.flags.includes(flag));
          return (
            <li key={id} className="flex items-baseline gap-3 border-b border-hair py-1">
              <span className="min-w-0 flex-1 truncate" title={message.subject}>
                {message.subject || text.sift.noSubject}
                <span className="note"> · {message.from?.name || message.from?.address || text.sift.noSender}</span>
              </span>
              <span className="note whitespace-nowrap">{flags.map((flag) => text.flags[flag]).join(', ')}</span>
              <span className="note whitespace-nowrap">{day(message.received)}</span>
              <span className="whitespace-nowrap">{octets(message.size)}</span>
            </li>
          );
        })}
      </ul>
      {!all && ids.length > SHOWN && (
        <button type="button" className="link mt-1" onClick={() => setAll(true)}>
          {text.standing.showAll(count(ids.length))}
        </button>
      )}
    </div>
  );
}
