import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Popover } from 'radix-ui';
import { useState } from 'react';
import type { HostMailboxes, Operator } from '../../contract/types';
import { call } from '../../ui/api/call';
import { ApiProvider } from '../../ui/api/client';
import { signOut } from '../../ui/api/signOut';
import { AskedFor, Link, useRoute } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { useHydrated } from '../../ui/useHydrated';
import { Acts } from './Acts';
import { MailboxTable } from './MailboxTable';
import { byDomain } from './narrow';
import { Rounds } from './rounds/Rounds';
import { useRounds } from './rounds/useRounds';
import { Summary } from './Summary';
import { OperatorContext, useHostMailboxes, useOperator } from './useHost';

/** The page of whoever looks after the mailboxes of a host. */
export default function HostPage({ operators, asked }: { operators: Operator[]; asked: string }) {
  return (
    <AskedFor value={asked}>
      <ApiProvider>
        <Chosen operators={operators} />
      </ApiProvider>
    </AskedFor>
  );
}

/** The operator in the URL, else the first of the session. */
function Chosen({ operators }: { operators: Operator[] }) {
  const { search } = useRoute();
  const operator = operators.find(({ id }) => `${id}` === search.get('operator')) ?? operators[0];
  const hydrated = useHydrated();
  if (!operator) return null;
  return (
    <OperatorContext.Provider key={operator.id} value={operator}>
      <Frame operators={operators} shown={hydrated} />
    </OperatorContext.Provider>
  );
}

const VIEWS = ['mailboxes', 'rounds', 'acts'] as const;
type View = (typeof VIEWS)[number];

function Frame({ operators, shown }: { operators: Operator[]; shown: boolean }) {
  const { search } = useRoute();
  const mailboxes = useHostMailboxes();
  const view = VIEWS.find((each) => each === search.get('view')) ?? 'mailboxes';
  return (
    <div className="flex h-dvh flex-col">
      <Head operators={operators} view={view} data={mailboxes.data} />
      <main className="view flex-1">
        {mailboxes.data?.operator.state === 'locked' && (
          <p role="alert" className="card flex flex-wrap items-center justify-between gap-2 border-go">
            {text.host.locked}
            <a href="/sign-in?operator" className="button">
              {text.accounts.signInAgain}
            </a>
          </p>
        )}
        {view === 'acts' ? (
          <Acts />
        ) : view === 'rounds' ? (
          <Rounds />
        ) : mailboxes.error ? (
          <Failed error={mailboxes.error} retry={() => void mailboxes.refetch()} />
        ) : shown && mailboxes.data ? (
          <>
            <Summary mailboxes={mailboxes.data.mailboxes} />
            <MailboxTable data={mailboxes.data} />
          </>
        ) : (
          <Loading />
        )}
      </main>
    </div>
  );
}

function Head({ operators, view, data }: { operators: Operator[]; view: View; data: HostMailboxes | undefined }) {
  const { id } = useOperator();
  const rounds = useRounds().data?.rounds;
  const standing = rounds?.filter(({ on }) => on > 0).length ?? 0;
  const asking = rounds?.filter(({ state }) => state === 'asking').length ?? 0;
  const own = operators.length > 1 ? `&operator=${id}` : '';
  const places: [string, string, string, string][] = [
    [
      'mailboxes',
      `/mailboxes${own.replace('&', '?')}`,
      text.host.title,
      data ? text.host.placeFigure(count(data.mailboxes.length), byDomain(data.mailboxes).length) : ' ',
    ],
    [
      'rounds',
      `/mailboxes?view=rounds${own}`,
      text.host.rounds.place,
      rounds ? text.host.rounds.placeFigure(standing, asking) : ' ',
    ],
    ['acts', `/mailboxes?view=acts${own}`, text.places.ledger, text.host.acts.place],
  ];
  return (
    <header className="places h-[52px] flex-none">
      <h1 className="sr-only">{text.host.title}</h1>
      <nav aria-label={text.places.label} className="flex">
        {places.map(([name, to, label, figure]) => (
          <Link key={name} to={to} className="place" aria-current={view === name ? 'page' : undefined}>
            <span className="font-semibold">{label}</span>
            <span className="note">{figure}</span>
          </Link>
        ))}
      </nav>
      <Corner operators={operators} daily={data?.operator.daily ?? false} />
    </header>
  );
}

/** Whose view it is, and what can be done about that. */
function Corner({ operators, daily }: { operators: Operator[]; daily: boolean }) {
  const { id, user, base } = useOperator();
  const client = useQueryClient();
  const [asked, setAsked] = useState(false);
  const measure = useMutation({
    mutationFn: (body: { daily: boolean }) => call(base, { method: 'PATCH', body }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['host', id] }),
  });
  const leave = async (path: string) => {
    await call(path, { method: 'DELETE' });
    window.location.assign('/');
  };
  return (
    <div className="ml-auto flex flex-col justify-center text-right whitespace-nowrap">
      <Popover.Root>
        <Popover.Trigger className="text-right">
          <span className="block font-semibold">{user}</span>
          <span className="note">{text.host.privacy}</span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="end"
            sideOffset={4}
            aria-label={text.account.menu}
            className="card z-20 flex w-72 flex-col items-stretch gap-2"
          >
            <label className="whitespace-normal">
              <input
                type="checkbox"
                checked={daily}
                disabled={measure.isPending}
                onChange={(event) => measure.mutate({ daily: event.target.checked })}
              />{' '}
              {text.host.daily}
            </label>
            <p className="note whitespace-normal">{text.host.dailyNote}</p>
            {operators
              .filter((other) => other.id !== id)
              .map((other) => (
                <a key={other.id} className="button text-center" href={`/mailboxes?operator=${other.id}`}>
                  {text.host.switchTo(other.user)}
                </a>
              ))}
            <a className="button text-center" href="/accounts">
              {text.host.ownMailboxes}
            </a>
            <button type="button" className="button" onClick={() => void leave(`/session/operators/${id}`)}>
              {text.host.leave}
            </button>
            <button type="button" className="button" onClick={() => void signOut()}>
              {text.accounts.signOut}
            </button>
            <button
              type="button"
              className={`button ${asked ? 'button-go' : 'text-go'}`}
              onClick={() => (asked ? void leave(base) : setAsked(true))}
            >
              {asked ? text.host.eraseSure : text.host.erase}
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </div>
  );
}
