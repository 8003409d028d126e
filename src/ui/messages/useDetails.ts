import { useEffect, useRef, useState } from 'react';
import type { Message } from '../../contract/types';
import { useAccount } from '../api/account';
import { call } from '../api/call';

/** Rows that hurry past under a hand are not asked for. */
const SETTLE_MS = 90;
const MAX_KEPT = 20_000;
const MAX_CONCURRENT = 500;

/** What the columns do not carry of the messages in view, by id, as it comes in. */
export function useDetails(ids: readonly number[]): ReadonlyMap<number, Message> {
  const { account, base } = useAccount();
  const known = useRef({ account: account.id, messages: new Map<number, Message>() });
  const [, told] = useState(0);
  if (known.current.account !== account.id) known.current = { account: account.id, messages: new Map() };
  const { messages } = known.current;
  const missing = ids
    .filter((id) => !messages.has(id))
    .slice(0, MAX_CONCURRENT)
    .join(',');
  useEffect(() => {
    if (missing === '') return;
    const control = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const { messages: found } = await call<{ messages: Message[] }>(`${base}/messages?ids=${missing}`, {
          signal: control.signal,
        });
        if (messages.size > MAX_KEPT) messages.clear();
        for (const message of found) messages.set(message.id, message);
        told((times) => times + 1);
      } catch {
        // The rows stand without their subjects until they come into view again.
      }
    }, SETTLE_MS);
    return () => {
      clearTimeout(timer);
      control.abort();
    };
  }, [missing, base, messages]);
  return messages;
}
