import { useEffect, useState } from 'react';
import type { DeviceCode, SignedIn } from '../../contract/types';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';
import type { Place } from './access';
import { enter } from './entered';

/** Asks the host for an authorization: on its own page, or by a code that is typed on another device. */
export function Authorize({ place, onPassword }: { place: Place; onPassword(): void }) {
  const [going, setGoing] = useState(false);
  const [problem, setProblem] = useState<Error>();
  const [device, setDevice] = useState<DeviceCode>();
  const isWhole = place.user.trim() !== '' && place.port > 0;
  const begin = async (act: () => Promise<void>) => {
    setGoing(true);
    setProblem(undefined);
    try {
      await act();
    } catch (error) {
      setProblem(error as Error);
      setGoing(false);
    }
  };
  const toPage = async () => {
    const { url } = await call<{ url: string }>('/authorizations', { method: 'POST', body: place });
    window.location.assign(url);
  };
  const byCode = async () => {
    setDevice(await call<DeviceCode>('/authorizations/device', { method: 'POST', body: place }));
    setGoing(false);
  };
  const fail = (error: Error) => {
    setDevice(undefined);
    setProblem(error);
  };
  return (
    <div className="col-span-2 grid gap-3">
      {problem && (
        <p role="alert" className="font-semibold text-go">
          {problem.message}
        </p>
      )}
      {device ? (
        <Waiting device={device} onFailed={fail} onStop={() => setDevice(undefined)} />
      ) : (
        <>
          <p className="note">{text.signIn.authorizeNote(place.host)}</p>
          <button
            type="button"
            className="button button-chief"
            disabled={going || !isWhole}
            onClick={() => void begin(toPage)}
          >
            {going ? text.signIn.going : text.signIn.authorize}
          </button>
          <div className="flex flex-wrap justify-between gap-2">
            <button type="button" className="link" disabled={going || !isWhole} onClick={() => void begin(byCode)}>
              {text.signIn.byCode}
            </button>
            <button type="button" className="link" onClick={onPassword}>
              {text.signIn.byPassword}
            </button>
          </div>
        </>
      )}
    </div>
  );
}

/** Shows the code, and asks whether it was typed, as often as the host allows. */
function Waiting({ device, onFailed, onStop }: { device: DeviceCode; onFailed(error: Error): void; onStop(): void }) {
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout>;
    let stopped = false;
    const ask = async () => {
      try {
        const answer = await call<SignedIn | { state: 'waiting'; interval: number }>('/authorizations/device/finish', {
          method: 'POST',
          body: {},
        });
        if (stopped) return;
        if ('account' in answer) await enter(answer);
        else timer = setTimeout(() => void ask(), answer.interval * 1000);
      } catch (error) {
        if (!stopped) onFailed(error as Error);
      }
    };
    timer = setTimeout(() => void ask(), device.interval * 1000);
    return () => {
      stopped = true;
      clearTimeout(timer);
    };
  }, [device, onFailed]);
  return (
    <div className="grid gap-2" role="status">
      <p>{text.signIn.typeCode}</p>
      <p>
        <a href={device.url} target="_blank" rel="noreferrer" className="link break-all">
          {device.url}
        </a>
      </p>
      <p className="figure font-mono">{device.code}</p>
      <p className="note">{text.signIn.codeWaits}</p>
      <button type="button" className="link justify-self-start" onClick={onStop}>
        {text.signIn.otherWay}
      </button>
    </div>
  );
}
