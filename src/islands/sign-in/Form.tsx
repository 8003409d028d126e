import { type FormEvent, useState } from 'react';
import { ApiProblem } from '../../ui/api/call';
import { text } from '../../ui/text';
import { Authorize } from './Authorize';
import type { Access, Server } from './access';
import { FindServer } from './FindServer';
import { Labelled } from './Labelled';
import { isCovered, useAuthorizing } from './useAuthorizing';

const USUAL_PORT = { tls: '993', starttls: '143', none: '143' };

/** Which mailbox it is, and how one gets in. */
export function Form({
  known,
  going,
  problem,
  onGo,
  divided,
}: {
  known: Server | null;
  going: boolean;
  problem: Error | undefined;
  onGo(access: Access): Promise<void>;
  divided: boolean;
}) {
  const [server, setServer] = useState<Server>(known ?? { host: '', port: USUAL_PORT.tls, security: 'tls', user: '' });
  const hosts = useAuthorizing();
  const [byPassword, setByPassword] = useState(false);
  const authorizes = isCovered(server.host, hosts) && !byPassword;
  const change = (changes: Partial<Server>) => setServer((now) => ({ ...now, ...changes }));
  const { host, port, security, user } = server;
  const wrong = problem instanceof ApiProblem ? new Set(problem.errors.map(({ field }) => field)) : new Set<string>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    if (authorizes) return;
    const form = new FormData(event.currentTarget);
    void onGo({
      host,
      port: Number(port),
      security,
      user,
      password: `${form.get('password')}`,
      signInAs: `${form.get('signInAs')}`.trim(),
      reason: `${form.get('reason')}`.trim(),
    });
  };
  const field = (name: string) => ({
    name,
    id: name,
    className: `field w-full ${wrong.has(name) ? 'border-go' : ''}`,
    'aria-invalid': wrong.has(name),
    'aria-describedby': wrong.has(name) ? 'problem' : undefined,
  });
  // By POST, so that a form that is sent before the script runs does not put the password into the address.
  return (
    <form method="post" onSubmit={submit} className="card grid grid-cols-[1fr_92px] gap-3">
      {divided && <p className="note col-span-2">{text.signIn.or}</p>}
      {!known && <FindServer onFound={change} />}
      <Labelled name="host" label={text.signIn.host}>
        <input
          {...field('host')}
          required
          placeholder="imap.post.example"
          autoComplete="off"
          spellCheck={false}
          value={host}
          onChange={(event) => change({ host: event.target.value })}
        />
      </Labelled>
      <Labelled name="port" label={text.signIn.port}>
        <input
          {...field('port')}
          required
          inputMode="numeric"
          value={port}
          onChange={(event) => change({ port: event.target.value.replace(/\D/g, '') })}
        />
      </Labelled>
      <Labelled name="security" label={text.signIn.security} wide>
        <select
          {...field('security')}
          value={security}
          onChange={(event) => {
            const next = event.target.value as Access['security'];
            change({ security: next, ...(port === USUAL_PORT[security] ? { port: USUAL_PORT[next] } : {}) });
          }}
        >
          <option value="tls">{text.signIn.tls}</option>
          <option value="starttls">{text.signIn.starttls}</option>
          <option value="none">{text.signIn.plain}</option>
        </select>
      </Labelled>
      <Labelled name="user" label={text.signIn.user} wide>
        <input
          {...field('user')}
          required
          autoComplete="username"
          spellCheck={false}
          value={user}
          onChange={(event) => change({ user: event.target.value })}
        />
      </Labelled>
      {authorizes ? (
        <Authorize place={{ host, port: Number(port), security, user }} onPassword={() => setByPassword(true)} />
      ) : (
        <Password
          going={going}
          problem={problem}
          wrong={wrong}
          field={field}
          signInAs={known && 'signInAs' in known ? (known.signInAs ?? '') : ''}
        />
      )}
    </form>
  );
}

function Password({
  going,
  problem,
  wrong,
  field,
  signInAs,
}: {
  going: boolean;
  problem: Error | undefined;
  wrong: ReadonlySet<string>;
  field(name: string): object;
  /** Who signed in before, where that is another. */
  signInAs: string;
}) {
  const [shown, setShown] = useState(false);
  return (
    <>
      <div className="col-span-2">
        <Labelled name="password" label={text.signIn.password}>
          <input
            {...field('password')}
            required
            type={shown ? 'text' : 'password'}
            autoComplete="current-password"
            autoCapitalize="none"
            spellCheck={false}
          />
        </Labelled>
        <label className="note">
          <input type="checkbox" checked={shown} onChange={(event) => setShown(event.target.checked)} />{' '}
          {text.signIn.show}
        </label>
      </div>
      <details
        className="col-span-2"
        open={signInAs !== '' || wrong.has('signInAs') || wrong.has('reason') || undefined}
      >
        <summary className="note cursor-pointer">{text.signIn.another}</summary>
        <div className="mt-2 grid gap-1">
          <Labelled name="signInAs" label={text.signIn.signInAs}>
            <input {...field('signInAs')} autoComplete="off" spellCheck={false} defaultValue={signInAs} />
          </Labelled>
          <Labelled name="reason" label={text.signIn.reason}>
            <input {...field('reason')} autoComplete="off" maxLength={500} />
          </Labelled>
          <p className="note">{text.signIn.anotherNote}</p>
        </div>
      </details>
      {problem && (
        <p id="problem" role="alert" className="col-span-2 font-semibold text-go">
          {problem.message}
        </p>
      )}
      {problem instanceof ApiProblem && ASKS_MORE.has(problem.type) && <Refused />}
      <button type="submit" disabled={going} className="button col-span-2">
        {going ? text.signIn.going : text.signIn.go}
      </button>
      <p className="note col-span-2">{text.signIn.kept}</p>
    </>
  );
}

/** Problems after which it helps to know what hosts commonly ask for. */
const ASKS_MORE = new Set(['/problems/password-refused', '/problems/no-mechanism']);

/** What hosts commonly ask for when they refuse a password; which it is, their own words tell. */
function Refused() {
  return (
    <div className="note col-span-2">
      <p>{text.signIn.refused}</p>
      <ul className="ml-4 list-disc">
        {text.signIn.refusedAsks.map((ask) => (
          <li key={ask}>{ask}</li>
        ))}
      </ul>
    </div>
  );
}
