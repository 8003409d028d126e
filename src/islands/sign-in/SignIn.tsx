import { type FormEvent, useState } from 'react';
import { ApiProblem, call } from '../../ui/api/call';
import type { AccountBrief, Settings } from '../../ui/api/types';
import { Mark } from '../../ui/Mark';
import { text } from '../../ui/text';

export interface Offered {
  host: string;
  port: number;
  security: 'tls' | 'starttls' | 'none';
  user: string;
  password: string;
}

const USUAL_PORT = { tls: '993', starttls: '143', none: '143' };

/** Signs in, tells the server the time zone of this browser, and goes on to the level. */
async function signIn(access: Offered): Promise<void> {
  const { account } = await call<{ account: AccountBrief }>('/session', { method: 'POST', body: access });
  const settings = await call<Settings>(`/accounts/${account.id}/settings`);
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  if (settings.timeZone === 'UTC' && timeZone && timeZone !== 'UTC') {
    await call(`/accounts/${account.id}/settings`, { method: 'PATCH', body: { timeZone } });
  }
  window.location.assign('/level');
}

export function SignIn({ offered }: { offered: Offered | undefined }) {
  const [going, setGoing] = useState(false);
  const [problem, setProblem] = useState<ApiProblem | Error>();
  const go = async (access: Offered) => {
    setGoing(true);
    setProblem(undefined);
    try {
      await signIn(access);
    } catch (error) {
      setProblem(error as Error);
      setGoing(false);
    }
  };
  return (
    <main className="mx-auto flex min-h-dvh w-[min(430px,100vw)] flex-col justify-center gap-4 p-4">
      <Mark />
      <div>
        <h1 className="text-[19px]">{text.signIn.title}</h1>
        <p className="mt-1 text-ink-2">{text.signIn.intro}</p>
      </div>
      {offered && (
        <section className="card">
          <button
            type="button"
            disabled={going}
            className="button button-chief w-full"
            onClick={() => void go(offered)}
          >
            {going ? text.signIn.going : text.signIn.demo}
          </button>
          <p className="note mt-2">{text.signIn.demoNote}</p>
        </section>
      )}
      <Form going={going} problem={problem} onGo={go} divided={offered !== undefined} />
    </main>
  );
}

function Form({
  going,
  problem,
  onGo,
  divided,
}: {
  going: boolean;
  problem: ApiProblem | Error | undefined;
  onGo(access: Offered): Promise<void>;
  divided: boolean;
}) {
  const [security, setSecurity] = useState<Offered['security']>('tls');
  const [port, setPort] = useState(USUAL_PORT.tls);
  const wrong = problem instanceof ApiProblem ? new Set(problem.errors.map(({ field }) => field)) : new Set<string>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    void onGo({
      host: `${form.get('host')}`,
      port: Number(port),
      security,
      user: `${form.get('user')}`,
      password: `${form.get('password')}`,
    });
  };
  const field = (name: string) => ({
    name,
    id: name,
    className: `field w-full ${wrong.has(name) ? 'border-go' : ''}`,
    'aria-invalid': wrong.has(name),
    'aria-describedby': wrong.has(name) ? 'problem' : undefined,
  });
  return (
    <form onSubmit={submit} className="card grid grid-cols-[1fr_92px] gap-3">
      {divided && <p className="note col-span-2">{text.signIn.or}</p>}
      <Labelled name="host" label={text.signIn.host}>
        <input {...field('host')} required placeholder="imap.post.example" autoComplete="off" spellCheck={false} />
      </Labelled>
      <Labelled name="port" label={text.signIn.port}>
        <input
          {...field('port')}
          required
          inputMode="numeric"
          value={port}
          onChange={(event) => setPort(event.target.value.replace(/\D/g, ''))}
        />
      </Labelled>
      <Labelled name="security" label={text.signIn.security} wide>
        <select
          {...field('security')}
          value={security}
          onChange={(event) => {
            const next = event.target.value as Offered['security'];
            if (port === USUAL_PORT[security]) setPort(USUAL_PORT[next]);
            setSecurity(next);
          }}
        >
          <option value="tls">{text.signIn.tls}</option>
          <option value="starttls">{text.signIn.starttls}</option>
          <option value="none">{text.signIn.plain}</option>
        </select>
      </Labelled>
      <Labelled name="user" label={text.signIn.user} wide>
        <input {...field('user')} required autoComplete="username" spellCheck={false} />
      </Labelled>
      <Labelled name="password" label={text.signIn.password} wide>
        <input {...field('password')} required type="password" autoComplete="current-password" />
      </Labelled>
      {problem && (
        <p id="problem" role="alert" className="col-span-2 font-semibold text-go">
          {problem.message}
        </p>
      )}
      <button type="submit" disabled={going} className="button col-span-2">
        {going ? text.signIn.going : text.signIn.go}
      </button>
      <p className="note col-span-2">{text.signIn.kept}</p>
    </form>
  );
}

function Labelled({
  name,
  label,
  wide,
  children,
}: {
  name: string;
  label: string;
  wide?: boolean;
  children: React.ReactNode;
}) {
  return (
    <div className={wide ? 'col-span-2' : ''}>
      <label htmlFor={name} className="note">
        {label}
      </label>
      {children}
    </div>
  );
}
