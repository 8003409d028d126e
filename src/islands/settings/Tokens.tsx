import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import type { Token } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { ago } from '../../ui/text/format';

interface Wanted {
  name: string;
  acts: boolean;
  endsAt: string;
}

const DAY_MS = 86_400_000;
const USUAL_DAYS = 90;

/** Tokens for scripts: made, told once, and taken back. */
export function Tokens() {
  const { account, base } = useAccount();
  const { day } = useFigures();
  const { data } = useQuery({
    queryKey: ['tokens', account.id],
    queryFn: () => call<{ tokens: Token[] }>(`${base}/tokens`),
  });
  const [told, setTold] = useState<string>();
  const make = useChange<Wanted, { token: string }>(
    () => '/tokens',
    'POST',
    (wanted) => wanted,
    ['tokens'],
    ({ token }) => setTold(token),
  );
  const revoke = useChange<number>(
    (id) => `/tokens/${id}`,
    'DELETE',
    () => undefined,
    ['tokens'],
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    setTold(undefined);
    make.mutate({
      name: `${form.get('name')}`,
      acts: form.get('acts') === 'true',
      endsAt: new Date(`${form.get('ends')}T23:59:59`).toISOString(),
    });
    event.currentTarget.reset();
  };
  const usual = new Date(Date.now() + USUAL_DAYS * DAY_MS).toISOString().slice(0, 10);
  return (
    <section className="mt-6 border-line border-t pt-4">
      <h3 className="font-semibold">{text.tokens.title}</h3>
      <p className="note mb-2">{text.tokens.note}</p>
      <ul className="grid gap-1">
        {(data?.tokens ?? []).map(({ id, name, acts, endsAt, usedAt }) => (
          <li key={id} className="flex flex-wrap items-baseline gap-x-3">
            <strong className="min-w-0 truncate">{name}</strong>
            <span className="note">
              {acts ? text.tokens.acting : text.tokens.reading} · {text.tokens.until(day(endsAt))} ·{' '}
              {usedAt ? text.tokens.used(ago(usedAt)) : text.tokens.unused}
            </span>
            <button
              type="button"
              className="button ml-auto"
              disabled={revoke.isPending}
              onClick={() => revoke.mutate(id)}
              aria-label={text.tokens.revokeNamed(name)}
            >
              {text.tokens.revoke}
            </button>
          </li>
        ))}
      </ul>
      {told && (
        <div role="status" className="card my-2">
          <p className="note">{text.tokens.once}</p>
          <code className="block break-all">{told}</code>
        </div>
      )}
      <Refused error={make.error ?? revoke.error} />
      <form onSubmit={submit} className="mt-3 grid grid-cols-2 items-end gap-3">
        <label className="note col-span-2">
          {text.tokens.name}
          <input name="name" required maxLength={100} autoComplete="off" className="field w-full" />
        </label>
        <label className="note">
          {text.tokens.may}
          <select name="acts" className="field w-full">
            <option value="false">{text.tokens.reading}</option>
            <option value="true">{text.tokens.acting}</option>
          </select>
        </label>
        <label className="note">
          {text.tokens.ends}
          <input name="ends" type="date" required defaultValue={usual} className="field w-full" />
        </label>
        <button type="submit" disabled={make.isPending} className="button col-span-2">
          {text.tokens.make}
        </button>
      </form>
    </section>
  );
}
