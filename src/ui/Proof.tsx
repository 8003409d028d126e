import { AlertDialog } from 'radix-ui';
import { type FormEvent, useEffect, useId, useRef, useState } from 'react';
import { type ApiProblem, call, proveBy } from './api/call';
import { Refused } from './State';
import { text } from './text';

interface Asked {
  account: number;
  problem: ApiProblem;
  answer(proven: boolean): void;
}

/** Asks for the password once more, where a call wants to know whether it is still the owner who sits there. */
export function Proof() {
  const [asked, setAsked] = useState<Asked>();
  const [refused, setRefused] = useState<Error | null>(null);
  const [going, setGoing] = useState(false);
  const field = useId();
  const typed = useRef<HTMLInputElement>(null);
  useEffect(
    () =>
      proveBy(
        (account, problem) =>
          new Promise((answer) => {
            setRefused(null);
            setAsked({ account, problem, answer });
          }),
      ),
    [],
  );
  const end = (proven: boolean) => {
    asked?.answer(proven);
    setAsked(undefined);
  };
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    // The form stands in a portal, but React hands its events on to the forms that hold it.
    event.stopPropagation();
    const password = `${new FormData(event.currentTarget).get('password')}`;
    setGoing(true);
    try {
      await call(`/accounts/${asked?.account}/proof`, { method: 'POST', body: { password } });
      end(true);
    } catch (error) {
      setRefused(error as Error);
    } finally {
      setGoing(false);
    }
  };
  const byPassword = asked?.problem.errors[0]?.expected !== 'authorization';
  return (
    <AlertDialog.Root open={asked !== undefined} onOpenChange={(open) => !open && end(false)}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-50 bg-ink/30" />
        <AlertDialog.Content
          onOpenAutoFocus={(event) => {
            if (!typed.current) return;
            event.preventDefault();
            typed.current.focus();
          }}
          className="card fixed top-1/3 left-1/2 z-50 w-[min(440px,92vw)] -translate-x-1/2 border-go p-5"
        >
          <AlertDialog.Title className="text-[15px] font-semibold">{text.proof.title}</AlertDialog.Title>
          <AlertDialog.Description className="my-3">
            {byPassword ? text.proof.byPassword : text.proof.byAuthorization}
          </AlertDialog.Description>
          <form onSubmit={(event) => void submit(event)} className="grid gap-3">
            {byPassword && (
              <label htmlFor={field} className="grid gap-1">
                {text.proof.password}
                <input
                  ref={typed}
                  id={field}
                  name="password"
                  type="password"
                  required
                  autoComplete="current-password"
                  className="field w-full"
                />
              </label>
            )}
            <Refused error={refused} />
            <div className="flex flex-wrap justify-end gap-2">
              <AlertDialog.Cancel className="button">{text.proof.cancel}</AlertDialog.Cancel>
              {byPassword ? (
                <button type="submit" className="button button-go" disabled={going}>
                  {text.proof.go}
                </button>
              ) : (
                <a href={`/sign-in?again=${asked?.account}`} className="button button-chief">
                  {text.proof.toHost}
                </a>
              )}
            </div>
          </form>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
