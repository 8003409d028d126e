import { useEffect, useRef, useState } from 'react';
import { call } from '../../ui/api/call';
import { Mark } from '../../ui/Mark';
import { text } from '../../ui/text';
import { enter, type SignedIn } from './entered';

/** Where a host's page sends the browser back to: what it brings is handed on, and taken out of the address. */
export default function Returned() {
  const [problem, setProblem] = useState<Error>();
  const isBegun = useRef(false);
  useEffect(() => {
    if (isBegun.current) return;
    isBegun.current = true;
    const query = window.location.search;
    window.history.replaceState(null, '', window.location.pathname);
    void call<SignedIn>('/authorizations/finish', { method: 'POST', body: { query } }).then(enter).catch(setProblem);
  }, []);
  return (
    <main className="mx-auto flex min-h-dvh w-full max-w-[430px] flex-col justify-center gap-4 p-4">
      <Mark />
      <h1 className="text-[19px]">{text.signIn.returned}</h1>
      {problem ? (
        <>
          <p role="alert" className="font-semibold text-go">
            {problem.message}
          </p>
          <a href="/sign-in?another" className="button self-start">
            {text.signIn.beginAgain}
          </a>
        </>
      ) : (
        <p role="status" className="text-ink-2">
          {text.signIn.going}
        </p>
      )}
    </main>
  );
}
