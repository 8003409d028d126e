import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import { AccountProvider } from '../../ui/api/account';
import { ApiProblem, call } from '../../ui/api/call';
import type { AccountBrief, Settings } from '../../ui/api/types';
import { ColumnsProvider } from '../../ui/columns/provider';
import { Mark } from '../../ui/Mark';
import { PlanStrip } from '../../ui/plan/PlanStrip';
import { useRoute } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { Tank } from '../../ui/tank/Tank';
import { text } from '../../ui/text';
import { Help } from './Help';
import { Notices } from './Notices';
import { Places } from './Places';

const Level = lazy(() => import('../level/Level'));
const Sift = lazy(() => import('../sift/Sift'));
const Senders = lazy(() => import('../senders/Senders'));
const Review = lazy(() => import('../plan/review/Review'));
const Suggestions = lazy(() => import('../plan/suggestions/Suggestions'));
const Guards = lazy(() => import('../plan/guards/Guards'));
const Trash = lazy(() => import('../trash/Trash'));
const Ledger = lazy(() => import('../ledger/Ledger'));

const VIEWS: Record<string, React.ComponentType> = {
  '/level': Level,
  '/sift': Sift,
  '/senders': Senders,
  '/review': Review,
  '/suggestions': Suggestions,
  '/guards': Guards,
  '/trash': Trash,
  '/ledger': Ledger,
};

/** The frame around every place: who it is for, the tank, the places, the view, the plan. */
export function App() {
  const session = useQuery({ queryKey: ['session'], queryFn: () => call<{ accounts: AccountBrief[] }>('/session') });
  const account = session.data?.accounts[0];
  const settings = useQuery({
    queryKey: ['settings', account?.id],
    queryFn: () => call<Settings>(`/accounts/${account?.id}/settings`),
    enabled: account !== undefined,
  });
  const signedOut = session.error instanceof ApiProblem && session.error.status === 401;
  useEffect(() => {
    if (signedOut) window.location.assign('/sign-in');
  }, [signedOut]);
  const error = session.error ?? settings.error;
  if (error && !signedOut)
    return <Failed error={error} retry={() => void (session.error ? session : settings).refetch()} />;
  if (!account || !settings.data) return <Loading />;
  return (
    <AccountProvider account={account} settings={settings.data}>
      <ColumnsProvider>
        <Frame locked={account.state === 'locked'} />
      </ColumnsProvider>
    </AccountProvider>
  );
}

function Frame({ locked }: { locked: boolean }) {
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
  const View = VIEWS[path] ?? Level;
  return (
    <div className="frame">
      <Tank mark={<Mark />} />
      <Places path={path} />
      <main className="view" key={path}>
        {locked && (
          <p role="alert" className="card border-go">
            {text.states.locked}
          </p>
        )}
        <Suspense fallback={<Loading />}>
          <View />
        </Suspense>
      </main>
      <PlanStrip />
      <Notices />
      <Help open={help} onClose={() => setHelp(false)} />
    </div>
  );
}
