import { useEffect, useRef, useState } from 'react';
import { useRuns } from '../../ui/api/account';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** Says when a run that was going has ended: in the page, and as a web notification where that is allowed. */
export function Notices() {
  const runs = useRuns();
  const going = useRef(new Set<number>());
  const [notice, setNotice] = useState('');
  useEffect(() => {
    for (const run of runs.data?.runs ?? []) {
      const goes = run.state === 'queued' || run.state === 'running';
      if (goes) going.current.add(run.id);
      else if (going.current.delete(run.id) && run.state === 'done') {
        const said = text.ledger.finished(run.id, count(run.done.messages));
        setNotice(said);
        if (document.hidden && 'Notification' in window && Notification.permission === 'granted')
          new Notification(text.product, { body: said });
      }
    }
  }, [runs.data]);
  useEffect(() => {
    if (notice === '') return;
    const timer = setTimeout(() => setNotice(''), 8_000);
    return () => clearTimeout(timer);
  }, [notice]);
  return (
    <p role="status" className={`fixed right-4 bottom-[66px] z-10 ${notice ? 'card font-semibold' : ''}`}>
      {notice}
    </p>
  );
}
