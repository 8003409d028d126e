import { useEffect, useState } from 'react';
import type { AccountBrief } from '../../contract/types';
import { call } from '../../ui/api/call';
import { Mark } from '../../ui/Mark';
import { Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { useHydrated } from '../../ui/useHydrated';
import type { Access, Server } from './access';
import { enter, type SignedIn } from './entered';
import { Form } from './Form';

interface Wanted {
  /** The mailbox that the demo offers. */
  offered: Access | undefined;
  /** An account of the session to sign in to again. */
  again: number | undefined;
  /** One besides those there are. */
  another: boolean;
}

/** Where an account of the session is; undefined while that is asked, null where there is none. */
function useAgain(id: number | undefined): Server | null | undefined {
  const [server, setServer] = useState<Server | null | undefined>(id === undefined ? null : undefined);
  useEffect(() => {
    if (id === undefined) return;
    void call<{ accounts: AccountBrief[] }>('/session').then(
      ({ accounts }) => {
        const account = accounts.find((each) => each.id === id);
        setServer(account ? { ...account, port: `${account.port}` } : null);
      },
      () => setServer(null),
    );
  }, [id]);
  return server;
}

export default function SignIn({ offered, again, another }: Wanted) {
  const known = useAgain(again);
  const [going, setGoing] = useState(false);
  const [problem, setProblem] = useState<Error>();
  const go = async (access: Access) => {
    setGoing(true);
    setProblem(undefined);
    try {
      await enter(await call<SignedIn>('/session', { method: 'POST', body: access }));
    } catch (error) {
      setProblem(error as Error);
      setGoing(false);
    }
  };
  // What is typed before the page has taken over would be lost.
  const hydrated = useHydrated();
  const isBack = again !== undefined || another;
  return (
    <main className="mx-auto flex min-h-dvh w-full max-w-[430px] flex-col justify-center gap-4 p-4">
      <Mark />
      <div>
        <h1 className="text-[19px]">
          {again ? text.signIn.titleAgain : another ? text.signIn.titleAnother : text.signIn.title}
        </h1>
        <p className="mt-1 text-ink-2">{again ? text.signIn.introAgain : text.signIn.intro}</p>
      </div>
      {offered && !again && (
        <section className="card">
          <button
            type="button"
            disabled={going || !hydrated}
            className="button button-chief w-full"
            onClick={() => void go(offered)}
          >
            {going ? text.signIn.going : text.signIn.demo}
          </button>
          <p className="note mt-2">{text.signIn.demoNote}</p>
        </section>
      )}
      {known === undefined ? (
        <Loading />
      ) : (
        <fieldset disabled={!hydrated} className="contents">
          <Form known={known} going={going} problem={problem} onGo={go} divided={offered !== undefined && !again} />
        </fieldset>
      )}
      {!isBack && (
        <a href="/sign-in?operator" className="link self-start">
          {text.signIn.operator.link}
        </a>
      )}
      {isBack && (
        <a href="/accounts" className="link self-start">
          {text.signIn.back}
        </a>
      )}
    </main>
  );
}
