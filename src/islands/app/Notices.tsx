import { useEffect, useRef, useState } from 'react';
import { useRuns, useScan } from '../../ui/api/account';
import { useBags } from '../../ui/api/archive';
import { membersOf } from '../../ui/run-words';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** A scan that was quicker than this was waited for. */
const LONG_MS = 20_000;

/** Says when a run, a long scan or the saving of a bag that was going has ended: in the page, and as a web notification where that is allowed. */
export function Notices() {
  const runs = useRuns();
  const scan = useScan().data;
  const bags = useBags().data?.bags;
  const saving = useRef(new Set<number>());
  const going = useRef(new Set<number>());
  const scanning = useRef<number | undefined>(undefined);
  const [notice, setNotice] = useState('');
  useEffect(() => {
    for (const run of runs.data?.runs ?? []) {
      const goes = run.state === 'queued' || run.state === 'running';
      if (goes) going.current.add(run.id);
      else if (going.current.delete(run.id)) {
        if (run.state === 'done') setNotice(say(text.ledger.finished(run.id, membersOf(run, run.done.messages))));
        if (run.state === 'failed') setNotice(say(text.ledger.stopped(run.id, run.problem?.detail ?? '')));
      }
    }
  }, [runs.data]);
  useEffect(() => {
    for (const { id, state, run, label, saved } of bags ?? []) {
      // A run tells of its own end.
      if (run !== null) continue;
      if (state === 'queued' || state === 'running' || state === 'checking') saving.current.add(id);
      else if (saving.current.delete(id) && state === 'done')
        setNotice(say(text.archive.ready(label || text.archive.unnamed(id), count(saved.files))));
    }
  }, [bags]);
  useEffect(() => {
    if (!scan) return;
    if (scan.state === 'running') scanning.current = scan.id;
    else if (scanning.current === scan.id) {
      scanning.current = undefined;
      const took = Date.parse(scan.endedAt ?? scan.createdAt) - Date.parse(scan.createdAt);
      if (scan.state === 'done' && took > LONG_MS) setNotice(say(text.ledger.scanned(count(scan.messages.done))));
    }
  }, [scan]);
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

/** Tells the user who looks elsewhere; gives the words back for the page. */
function say(words: string): string {
  if (document.hidden && 'Notification' in window && Notification.permission === 'granted')
    new Notification(text.product, { body: words });
  return words;
}
