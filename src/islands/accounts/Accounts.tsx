import { useQueries, useQuery } from '@tanstack/react-query';
import { useEffect } from 'react';
import type { AccountBrief, FirstFigures, Level } from '../../contract/types';
import { missingNow } from '../../core/level/gauge';
import { ApiProblem, call } from '../../ui/api/call';
import { ApiProvider } from '../../ui/api/client';
import { signOut } from '../../ui/api/signOut';
import { Mark } from '../../ui/Mark';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, octets } from '../../ui/text/format';
import { AccountCard } from './AccountCard';

/** Nothing tells this page of changes, since a browser keeps few streams open. */
const AGAIN_MS = 10_000;

export default function AccountsPage({
  first,
  looksAfter,
}: {
  first: Pick<FirstFigures, 'accounts'>;
  /** Whether the session holds an operator of a host. */
  looksAfter: boolean;
}) {
  return (
    <ApiProvider first={first}>
      <Accounts looksAfter={looksAfter} />
    </ApiProvider>
  );
}

/** The mailboxes of the session side by side: how full each is, and what must go. */
function Accounts({ looksAfter }: { looksAfter: boolean }) {
  const session = useQuery({
    queryKey: ['session'],
    queryFn: () => call<{ accounts: AccountBrief[] }>('/session'),
    refetchInterval: AGAIN_MS,
  });
  const accounts = session.data?.accounts ?? [];
  const levels = useQueries({
    queries: accounts.map(({ id }) => ({
      queryKey: ['level', id],
      queryFn: () => call<Level>(`/accounts/${id}/level`),
      refetchInterval: AGAIN_MS,
    })),
  }).map(({ data }) => data);
  const signedOut =
    session.data?.accounts.length === 0 || (session.error instanceof ApiProblem && session.error.status === 401);
  useEffect(() => {
    if (signedOut) window.location.assign('/sign-in');
  }, [signedOut]);
  if (session.error && !signedOut) return <Failed error={session.error} retry={() => void session.refetch()} />;
  if (!session.data || signedOut) return <Loading />;
  return (
    <main className="mx-auto flex min-h-dvh max-w-[1280px] flex-col gap-4 p-4">
      <header className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <Mark />
        <h1 className="text-[19px]">{text.accounts.title}</h1>
        <p className="text-ink-2">
          {text.accounts.sum(text.accounts.some(accounts.length, count(accounts.length)))} {needed(levels)}
        </p>
        <div className="ml-auto flex gap-2">
          {looksAfter && (
            <a href="/mailboxes" className="button">
              {text.accounts.host}
            </a>
          )}
          <a href="/sign-in?another" className="button">
            {text.accounts.another}
          </a>
          <button type="button" className="button" onClick={() => void signOut()}>
            {text.accounts.signOut}
          </button>
        </div>
      </header>
      <ul className="accounts">
        {accounts.map((account, index) => (
          <AccountCard
            key={account.id}
            account={account}
            level={levels[index]}
            onChanged={() => void session.refetch()}
          />
        ))}
      </ul>
    </main>
  );
}

/** What must go in all; nothing is said before every level is known. */
function needed(levels: readonly (Level | undefined)[]): string {
  if (levels.some((level) => level === undefined)) return '';
  const needs = levels.map((level) => missingNow(level as Level)).filter((need) => need !== null);
  const sum = { bytes: 0, messages: 0 };
  let short = 0;
  for (const need of needs) {
    const { bytes = 0, messages = 0 } = { ...need } as { bytes?: number; messages?: number };
    sum.bytes += bytes;
    sum.messages += messages;
    if (bytes + messages > 0) short++;
  }
  const what = [
    ...(sum.bytes > 0 ? [octets(sum.bytes, 'binary')] : []),
    ...(sum.messages > 0 ? [text.messages(sum.messages, count(sum.messages))] : []),
  ];
  if (short > 0) return text.accounts.mustGo(what.join(', '), text.accounts.some(short, count(short)));
  return needs.length === levels.length ? text.accounts.none : '';
}
