import { useState } from 'react';
import { Mark } from '../../ui/Mark';
import { text } from '../../ui/text';
import { useHydrated } from '../../ui/useHydrated';
import type { Access } from './access';
import { enterAsOperator, type OperatorAccess, OperatorForm } from './OperatorForm';

/** Where whoever looks after a host's mailboxes signs in. */
export default function OperatorSignIn({
  offered,
}: {
  /** The demo's host, and who looks after it. */
  offered: (Access & { operator?: { user: string; password: string } }) | undefined;
}) {
  const [going, setGoing] = useState(false);
  const [problem, setProblem] = useState<Error>();
  const hydrated = useHydrated();
  const go = async (access: OperatorAccess) => {
    setGoing(true);
    setProblem(undefined);
    try {
      await enterAsOperator(access);
    } catch (error) {
      setProblem(error as Error);
      setGoing(false);
    }
  };
  const { operator } = text.signIn;
  return (
    <main className="mx-auto flex min-h-dvh w-full max-w-[430px] flex-col justify-center gap-4 p-4">
      <Mark />
      <div>
        <h1 className="text-[19px]">{operator.title}</h1>
        <p className="mt-1 text-ink-2">{operator.intro}</p>
      </div>
      {offered?.operator && (
        <section className="card">
          <button
            type="button"
            disabled={going || !hydrated}
            className="button button-chief w-full"
            onClick={() => {
              const { host, port, security, operator: who } = offered;
              if (who) void go({ host, port, security, ...who });
            }}
          >
            {going ? text.signIn.going : operator.demo}
          </button>
          <p className="note mt-2">{operator.demoNote}</p>
        </section>
      )}
      <fieldset disabled={!hydrated} className="contents">
        <OperatorForm going={going} problem={problem} onGo={go} />
      </fieldset>
      <a href="/sign-in" className="link self-start">
        {operator.back}
      </a>
    </main>
  );
}
