import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Health } from '../../contract/types';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';
import { ago } from '../../ui/text/format';

const ASKED_EVERY_MS = 60_000;
/** How long after it a restart is shown. */
const SHOWN_MS = 3_600_000;

/** Says which program of Tamsel was started again within the last hour, and why it had ended. */
export function Restarted() {
  const health = useQuery({
    queryKey: ['health'],
    queryFn: () => call<Health>('/health'),
    refetchInterval: ASKED_EVERY_MS,
    retry: false,
  }).data;
  const [seen, setSeen] = useState('');
  const last = health?.restarts.at(-1);
  if (!last || last.at === seen || Date.now() - Date.parse(last.at) > SHOWN_MS) return null;
  return (
    <p role="status" className="card flex flex-wrap items-center justify-between gap-2">
      {text.states.restarted(last.program, ago(last.at), last.why)}
      <button type="button" className="button" onClick={() => setSeen(last.at)}>
        {text.states.hide}
      </button>
    </p>
  );
}
