import { type FormEvent, useState } from 'react';
import type { Operator } from '../../contract/types';
import { ApiProblem, call } from '../../ui/api/call';
import { text } from '../../ui/text';
import type { Access, Server } from './access';
import { FindServer } from './FindServer';
import { Labelled } from './Labelled';

/** What an operator of a mail host signs in with. */
export interface OperatorAccess extends Omit<Access, 'signInAs' | 'reason'> {
  mailbox?: string;
  daily?: boolean;
}

/** Signs in an operator, and goes to the mailboxes that they look after. */
export async function enterAsOperator(access: OperatorAccess): Promise<void> {
  const { operator } = await call<{ operator: Operator }>('/operators', { method: 'POST', body: access });
  window.location.assign(`/mailboxes?operator=${operator.id}`);
}

/** Whose host it is, and how the operator gets in: by a mailbox of their own, or by one that they may open. */
export function OperatorForm({
  going,
  problem,
  onGo,
}: {
  going: boolean;
  problem: Error | undefined;
  onGo(access: OperatorAccess): Promise<void>;
}) {
  const [server, setServer] = useState<Server>({ host: '', port: '993', security: 'tls', user: '' });
  const wrong = problem instanceof ApiProblem ? new Set(problem.errors.map(({ field }) => field)) : new Set<string>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const { host, port, security, user } = server;
    const mailbox = `${form.get('mailbox')}`.trim();
    void onGo({
      ...{ host, port: Number(port), security, user },
      password: `${form.get('password')}`,
      ...(mailbox === '' ? {} : { mailbox }),
      daily: form.get('daily') !== null,
    });
  };
  const field = (name: keyof Server | 'password' | 'mailbox') => ({
    name,
    id: name,
    className: `field w-full ${wrong.has(name) ? 'border-go' : ''}`,
    'aria-invalid': wrong.has(name),
    'aria-describedby': wrong.has(name) ? 'problem' : undefined,
    spellCheck: false,
  });
  const typed = (name: 'host' | 'port' | 'user') => ({
    ...field(name),
    required: true,
    value: server[name],
    onChange: (event: { target: { value: string } }) => setServer({ ...server, [name]: event.target.value }),
  });
  const { operator } = text.signIn;
  return (
    <form method="post" onSubmit={submit} className="card grid grid-cols-[1fr_92px] gap-3">
      <FindServer onFound={(found) => setServer(found)} />
      <Labelled name="host" label={text.signIn.host}>
        <input {...typed('host')} placeholder="imap.post.example" autoComplete="off" />
      </Labelled>
      <Labelled name="port" label={text.signIn.port}>
        <input {...typed('port')} inputMode="numeric" />
      </Labelled>
      <Labelled name="security" label={text.signIn.security} wide>
        <select
          {...field('security')}
          value={server.security}
          onChange={(event) => setServer({ ...server, security: event.target.value as Server['security'] })}
        >
          <option value="tls">{text.signIn.tls}</option>
          <option value="starttls">{text.signIn.starttls}</option>
          <option value="none">{text.signIn.plain}</option>
        </select>
      </Labelled>
      <Labelled name="user" label={operator.user} wide>
        <input {...typed('user')} autoComplete="username" />
      </Labelled>
      <Labelled name="password" label={text.signIn.password} wide>
        <input {...field('password')} required type="password" autoComplete="current-password" autoCapitalize="none" />
      </Labelled>
      <Labelled name="mailbox" label={operator.mailbox} wide>
        <input {...field('mailbox')} autoComplete="off" />
        <p className="note mt-1">{operator.mailboxNote}</p>
      </Labelled>
      <label className="col-span-2">
        <input type="checkbox" name="daily" /> {text.host.daily}
        <span className="note block">{text.host.dailyNote}</span>
      </label>
      {problem && (
        <p id="problem" role="alert" className="col-span-2 font-semibold text-go">
          {problem.message}
        </p>
      )}
      <button type="submit" disabled={going} className="button col-span-2">
        {going ? text.signIn.going : text.signIn.go}
      </button>
    </form>
  );
}
