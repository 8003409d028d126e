import { createContext, type ReactNode, useContext, useEffect, useState } from 'react';
import { useAccount } from '../api/account';
import { subscribe } from '../api/events';
import { ColumnsClient } from './client';

const Context = createContext<ColumnsClient | undefined>(undefined);

/** How long a burst of changes may last before it is looked at: a scan tells of each folder. */
const SETTLE_MS = 400;

/** Holds the columns of the account for all views below, and keeps them current. */
export function ColumnsProvider({ children }: { children: ReactNode }) {
  const { account, settings } = useAccount();
  const [client, setClient] = useState<ColumnsClient>();
  const { timeZone, trashFolder } = settings;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another trash makes other columns
  useEffect(() => {
    const opened = new ColumnsClient({ base: `/api/accounts/${account.id}`, timeZone });
    setClient(opened);
    let timer: ReturnType<typeof setTimeout> | undefined;
    const stop = subscribe(account.id, ({ kind }) => {
      if (kind !== 'index') return;
      clearTimeout(timer);
      timer = setTimeout(() => void opened.refresh().catch(() => undefined), SETTLE_MS);
    });
    return () => {
      clearTimeout(timer);
      stop();
      opened.close();
    };
  }, [account.id, timeZone, trashFolder]);
  return <Context.Provider value={client}>{children}</Context.Provider>;
}

/** The columns of the account; undefined for the moment in which they are opened. */
export function useColumns(): ColumnsClient | undefined {
  return useContext(Context);
}
