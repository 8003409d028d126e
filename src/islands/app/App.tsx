import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import type { AccountBrief, FirstFigures, Settings } from '../../contract/types';
import { AccountProvider } from '../../ui/api/account';
import { ApiProblem, call } from '../../ui/api/call';
import { ApiProvider } from '../../ui/api/client';
import { ColumnsProvider } from '../../ui/columns/provider';
import { Mark } from '../../ui/Mark';
import { PlanStrip } from '../../ui/plan/PlanStrip';
import { AskedFor, MAILBOX, useRoute } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { Tank } from '../../ui/tank/Tank';
import { text } from '../../ui/text';
import { titleOf } from '../../ui/title';
import { useHydrated } from '../../ui/useHydrated';
import { Help } from './Help';
import { Notices } from './Notices';
import { Places } from './Places';
import { Restarted } from './Restarted';

const Level = lazy(() => import('../level/Level'));
const Sift = lazy(() => import('../sift/Sift'));
const Files = lazy(() => import('../files/Files'));
const Senders = lazy(() => import('../senders/Senders'));
const Review = lazy(() => import('../plan/review/Review'));
const Suggestions = lazy(() => import('../plan/suggestions/Suggestions'));
const Guards = lazy(() => import('../plan/guards/Guards'));
const Repeats = lazy(() => import('../repeats/Repeats'));
const Trash = lazy(() => import('../trash/Trash'));
const Archive = lazy(() => import('../archive/Archive'));
const Ledger = lazy(() => import('../ledger/Ledger'));
const Upkeep = lazy(() => import('../upkeep/Upkeep'));

const VIEWS: Record<string, React.ComponentType> = {
  '/level': Level,
  '/sift': Sift,
  '/senders': Senders,
  '/files': Files,
  '/repeats': Repeats,
  '/review': Review,
  '/suggestions': Suggestions,
  '/guards': Guards,
  '/trash': Trash,
  '/archive': Archive,
  '/ledger': Ledger,
  '/upkeep': Upkeep,
};

/** The page of every place, as the server renders it and the browser takes it over. */
export default function App({ first, asked }: { first: FirstFigures; asked: string }) {
  return (
    <AskedFor value={asked}>
      <ApiProvider first={first}>
        <Mailbox />
      </ApiProvider>
    </AskedFor>
  );
}

/** The mailbox in view: the one in the URL, else the first of the session. */
function Mailbox() {
  const session = useQuery({ queryKey: ['session'], queryFn: () => call<{ accounts: AccountBrief[] }>('/session') });
  const { search } = useRoute();
  const accounts = session.data?.accounts;
  const account = accounts?.find(({ id }) => `${id}` === search.get(MAILBOX)) ?? accounts?.[0];
  const settings = useQuery({
    queryKey: ['settings', account?.id],
    queryFn: () => call<Settings>(`/accounts/${account?.id}/settings`),
    enabled: account !== undefined,
  });
  const signedOut = accounts?.length === 0 || (session.error instanceof ApiProblem && session.error.status === 401);
  useEffect(() => {
    if (signedOut) window.location.assign('/sign-in');
  }, [signedOut]);
  const error = session.error ?? settings.error;
  if (error && !signedOut)
    return <Failed error={error} retry={() => void (session.error ? session : settings).refetch()} />;
  if (!account || !settings.data) return <Loading />;
  return (
    <AccountProvider key={account.id} account={account} settings={settings.data}>
      <ColumnsProvider>
        <Frame account={account} />
      </ColumnsProvider>
    </AccountProvider>
  );
}

/** The frame around every place: the tank, the places, the view, the plan. */
function Frame({ account }: { account: AccountBrief }) {
  const { path } = useRoute();
  const [help, setHelp] = useState(false);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.matches('input, textarea, select');
      if (event.key === '?' && !typing) setHelp(true);
      if (event.key === '/' && !typing) {
        const field = document.querySelector<HTMLInputElement>('[data-criteria]');
        if (field) {
          event.preventDefault();
          field.focus();
        }
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  const hydrated = useHydrated();
  const View = VIEWS[path] ?? Level;
  useEffect(() => {
    document.title = titleOf(path);
  }, [path]);
  return (
    <div className="frame">
      <Tank mark={<Mark />} />
      <Places path={path} />
      <main className="view" key={path}>
        {account.state === 'locked' && (
          <p role="alert" className="card flex flex-wrap items-center justify-between gap-2 border-go">
            {text.states.locked}
            <a href={`/sign-in?again=${account.id}`} className="button">
              {text.accounts.signInAgain}
            </a>
          </p>
        )}
        <Restarted />
        {hydrated ? (
          <Suspense fallback={<Loading />}>
            <View />
          </Suspense>
        ) : (
          <Loading />
        )}
      </main>
      <PlanStrip />
      <Notices />
      <Help open={help} onClose={() => setHelp(false)} />
    </div>
  );
}
