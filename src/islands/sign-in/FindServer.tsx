import { useState } from 'react';
import type { FoundServer } from '../../contract/types';
import { ApiProblem, call } from '../../ui/api/call';
import { text } from '../../ui/text';
import type { Server } from './access';

/** Finds the server of an address and fills the form with it; what was found stays open to change. */
export function FindServer({ onFound }: { onFound(server: Server): void }) {
  const [address, setAddress] = useState('');
  const [going, setGoing] = useState(false);
  const [said, setSaid] = useState<{ text: string; isWrong: boolean }>();
  const find = async () => {
    if (address.trim() === '' || going) return;
    setGoing(true);
    setSaid(undefined);
    try {
      const { servers } = await call<{ servers: FoundServer[] }>('/discovery', { method: 'POST', body: { address } });
      const [best] = servers;
      if (best) {
        const { host, port, security, user } = best;
        onFound({ host, port: `${port}`, security, user });
        const how = text.signIn.how[best.how];
        setSaid({
          // Who runs this instance knows where the server is; of others' word one should be told.
          text: `${text.signIn.found(host, how)}${best.within || best.how === 'list' ? '' : ` ${text.signIn.outside}`}`,
          isWrong: false,
        });
      } else setSaid({ text: text.signIn.notFound, isWrong: false });
    } catch (error) {
      const isWrong = error instanceof ApiProblem;
      setSaid({ text: (error as Error).message, isWrong });
    } finally {
      setGoing(false);
    }
  };
  return (
    <div className="col-span-2 grid grid-cols-[1fr_auto] items-end gap-x-3 gap-y-1">
      <div>
        <label htmlFor="address" className="note">
          {text.signIn.address}
        </label>
        <input
          id="address"
          type="email"
          className="field w-full"
          autoComplete="email"
          spellCheck={false}
          aria-describedby="found"
          aria-invalid={said?.isWrong || undefined}
          value={address}
          onChange={(event) => setAddress(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== 'Enter') return;
            event.preventDefault();
            void find();
          }}
        />
      </div>
      <button type="button" className="button" disabled={going || address.trim() === ''} onClick={() => void find()}>
        {going ? text.signIn.finding : text.signIn.find}
      </button>
      <p id="found" role="status" className={`note col-span-2 ${said?.isWrong ? 'text-go' : ''}`}>
        {said?.text ?? text.signIn.findNote}
      </p>
    </div>
  );
}
