import { keepPreviousData, skipToken, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { createContext, type ReactNode, useContext, useEffect } from 'react';
import type {
  AccountBrief,
  Amount,
  Decision,
  Guard,
  Level,
  LotList,
  Plan,
  Run,
  ScanState,
  SearchState,
  Settings,
} from '../../contract/types';
import type { Measure } from '../../core/level/gauge';
import type { UnitSystem } from '../../core/units';
import { text } from '../text';
import * as format from '../text/format';
import { call } from './call';
import { subscribe } from './events';
import { Freshness } from './freshness';

interface AccountContext {
  account: AccountBrief;
  settings: Settings;
  /** Path of the account's calls. */
  base: string;
}

const Context = createContext<AccountContext | undefined>(undefined);

/** The account in view. */
export function useAccount(): AccountContext {
  const context = useContext(Context);
  if (!context) throw new Error('There is no account around this view.');
  return context;
}

/** Provides an account to views that show it among others, and ask for it anew by themselves. */
export function AccountAround({ account, settings, children }: AccountOf) {
  return <Context.Provider value={{ account, settings, base: `/accounts/${account.id}` }}>{children}</Context.Provider>;
}

interface AccountOf {
  account: AccountBrief;
  settings: Settings;
  children: ReactNode;
}

/** Provides the account in view, and keeps what is shown of it fresh as events come in. */
export function AccountProvider({ account, settings, children }: AccountOf) {
  const client = useQueryClient();
  useEffect(() => {
    const freshness = new Freshness(client, account.id);
    const stop = subscribe(account.id, ({ kind, data }) => {
      if (kind === 'scan' || kind === 'search') client.setQueryData([kind, account.id], data);
      if (kind === 'opened') freshness.lost('runs', 'scan', 'level', 'bags', 'archive', 'spaces', 'uploads');
      if (kind === 'scan' && (data as { state?: string } | undefined)?.state === 'done') freshness.lost('repeats');
      if (kind === 'run') freshness.lost('runs');
      if (kind === 'bag') freshness.lost('bags');
      // What is in mbox files is a copy of no file by itself.
      if (kind === 'bag' && (data as { form?: string } | undefined)?.form !== 'mbox') freshness.lost('files', 'lots');
      // Only a bag that is done changes what the archive holds.
      if (kind === 'bag' && (data as { state?: string } | undefined)?.state === 'done')
        freshness.lost('archive', 'messages', 'damage');
      if (kind === 'repeats') freshness.lost('repeats');
      if (kind === 'space') freshness.lost('spaces', 'level');
      if (kind === 'upload') freshness.lost('uploads');
      if (kind === 'level')
        freshness.lost('repeats', 'trash', 'level', 'forecast', 'lots', 'settings', 'decisions', 'guards', 'plan');
      if (kind === 'index')
        freshness.lost(
          ...[
            'repeats',
            'trash',
            'level',
            'forecast',
            'messages',
            'senders',
            'files',
            'lots',
            'decisions',
            'guards',
            'plan',
          ],
        );
    });
    return () => {
      stop();
      freshness.stop();
    };
  }, [account.id, client]);
  return (
    <AccountAround account={account} settings={settings}>
      {children}
    </AccountAround>
  );
}

export function useLevel() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['level', account.id],
    queryFn: () => call<Level>(`${base}/level`),
    placeholderData: keepPreviousData,
  });
}

/** Between two looks at work that waits. */
const WAITING_MS = 3_000;

export function useScan() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['scan', account.id],
    queryFn: () => call<ScanState>(`${base}/scans/last`),
    // No event tells that the reason for waiting is another one.
    refetchInterval: ({ state }) => (state.data?.state === 'queued' ? WAITING_MS : false),
  });
}

/** The search of the mail server that was told of last. */
export function useSearch() {
  const { account } = useAccount();
  return useQuery<SearchState>({ queryKey: ['search', account.id], queryFn: skipToken, staleTime: Infinity });
}

export function useLots() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['lots', account.id],
    queryFn: () => call<LotList>(`${base}/lots`),
  });
}

/** The plan as ids, and what suggestions leave out. */
export function usePlan() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['plan', account.id],
    queryFn: () => call<Plan>(`${base}/plan`),
    placeholderData: keepPreviousData,
  });
}

export function useGuards() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['guards', account.id],
    queryFn: () => call<{ guards: Guard[]; total: Amount }>(`${base}/guards`),
    placeholderData: keepPreviousData,
  });
}

export function useDecisions() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['decisions', account.id],
    queryFn: () => call<{ decisions: Decision[] }>(`${base}/decisions`),
  });
}

/** What is read again after anything of the plan was changed. */
export const OF_THE_PLAN = ['lots', 'level', 'plan', 'guards', 'decisions'];

export function useRuns() {
  const { account, base } = useAccount();
  return useQuery({ queryKey: ['runs', account.id], queryFn: () => call<{ runs: Run[] }>(`${base}/runs`) });
}

/**
 * A call that changes something, after which these are read again.
 *
 * @param then what follows, also where the component that asked is gone by then: its answer may take it out of the page.
 */
export function useChange<T, R = unknown>(
  path: (input: T) => string,
  method: string,
  body: (input: T) => unknown,
  stale: string[],
  then?: (result: R) => void,
) {
  const { account, base } = useAccount();
  const client = useQueryClient();
  return useMutation({
    mutationFn: (input: T) => call<R>(`${base}${path(input)}`, { method, body: body(input) }),
    onSuccess: (result) => {
      then?.(result);
      return Promise.all(stale.map((key) => client.invalidateQueries({ queryKey: [key, account.id] })));
    },
  });
}

/** Figures in the account's units and time zone. */
export function useFigures() {
  const { settings } = useAccount();
  const { units, timeZone } = settings;
  return {
    units: units as UnitSystem,
    octets: (number: number) => format.octets(number, units),
    /** An amount in words, in its measure. */
    amount: (of: Measure, number: number) =>
      of === 'bytes' ? format.octets(number, units) : text.messages(number, format.count(number)),
    day: (instant: string) => format.day(instant, timeZone),
    month: (instant: string) => format.month(instant, timeZone),
    time: (instant: string) => format.time(instant, timeZone),
    dayAndTime: (instant: string) => format.dayAndTime(instant, timeZone),
  };
}
