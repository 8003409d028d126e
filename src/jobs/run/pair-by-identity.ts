import type { MessageRecord } from '../../core/mailbox/record';
import type { Identity } from '../../store/index/moves';

/**
 * Recognises messages under new UIDs: by EMAILID (RFC 8474) where both have one, else by Message-ID, size and
 * INTERNALDATE together. Of several that are alike to the octet any pairing is right, so they pair in order.
 */
export function pairByIdentity(
  lost: readonly Identity[],
  found: readonly Pick<MessageRecord, 'uid' | 'emailId' | 'messageId' | 'size' | 'received'>[],
): { id: number; uid: number }[] {
  const keyOf = (message: Omit<Identity, 'id'>) =>
    message.emailId ?? `${message.messageId}\n${message.size}\n${message.received.getTime()}`;
  const waiting = new Map<string, number[]>();
  for (const message of lost) {
    const key = keyOf(message);
    const ids = waiting.get(key);
    if (ids) ids.push(message.id);
    else waiting.set(key, [message.id]);
  }
  const pairs: { id: number; uid: number }[] = [];
  for (const message of found) {
    const id = waiting.get(keyOf(message))?.shift();
    if (id !== undefined) pairs.push({ id, uid: message.uid });
  }
  return pairs;
}
