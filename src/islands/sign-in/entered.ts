import type { AccountBrief, Settings } from '../../contract/types';
import { call } from '../../ui/api/call';

/** What every way of signing in answers. */
export interface SignedIn {
  account: Pick<AccountBrief, 'id' | 'user' | 'host'>;
}

/** Tells the server the time zone of this browser, and goes on to what the session has. */
export async function enter({ account }: SignedIn): Promise<void> {
  const settings = await call<Settings>(`/accounts/${account.id}/settings`);
  const { timeZone } = Intl.DateTimeFormat().resolvedOptions();
  if (settings.timeZone === 'UTC' && timeZone && timeZone !== 'UTC') {
    await call(`/accounts/${account.id}/settings`, { method: 'PATCH', body: { timeZone } });
  }
  window.location.assign('/');
}
