import type { Account } from '../store/access/accounts';
import type { Bag } from '../store/archive/bags';
import type { Operator } from '../store/host/operators';
import type { Scan } from '../store/index/scans';

/** An account as a session shows it. */
export function shownAccount({ id, user, host, port, security, state, signInAs }: Account) {
  return { id, user, host, port, security, state, signInAs };
}

/** An operator as a session shows them. */
export function shownOperator({ id, user, host, port, security, state, daily }: Operator) {
  return { id, user, host, port, security, state, daily };
}

export function shownSettings({ settings }: Account, canMail: boolean) {
  return { ...settings, canMail };
}

export function shownScan({ problem, endedAt, outline, attempts: _, ...scan }: Scan) {
  return { ...scan, ...(problem ? { problem } : {}), ...(endedAt ? { endedAt } : {}), ...(outline ? { outline } : {}) };
}

export function shownBag({ wanted: _, attempts: __, problem, endedAt, checkedAt, keptUntil, ...bag }: Bag) {
  return {
    ...bag,
    ...(problem ? { problem } : {}),
    ...(endedAt ? { endedAt } : {}),
    ...(checkedAt ? { checkedAt } : {}),
    ...(keptUntil ? { keptUntil } : {}),
  };
}
