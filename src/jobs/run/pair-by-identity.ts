import type { MessageRecord } from '../../core/mailbox/record';
import type { Identity } from '../../store/index/moves';

type Found = Pick<MessageRecord, 'uid' | 'emailId' | 'messageId' | 'size' | 'received'>;
type Features = Omit<Identity, 'id'>;

/**
 * Recognises messages under new UIDs: by EMAILID (RFC 8474) where both have one, else by Message-ID, size and
 * INTERNALDATE together. Of several that are alike to the octet any pairing is right, so they pair in order. Of one that
 * was found, and could not be read but for its size and its date, these have to do.
 */
export function pairByIdentity(lost: readonly Identity[], found: readonly Found[]): { id: number; uid: number }[] {
  const exact = paired(lost, found, (message) => message.emailId ?? `${message.messageId}\n${bare(message)}`);
  const ids = new Set(exact.map(({ id }) => id));
  const uids = new Set(exact.map(({ uid }) => uid));
  const unread = found.filter((one) => isUnread(one) && !uids.has(one.uid));
  const restOfLost = lost.filter(({ id }) => !ids.has(id));
  return [...exact, ...paired(restOfLost, unread, bare)];
}

function paired(
  lost: readonly Identity[],
  found: readonly Found[],
  keyOf: (message: Features) => string,
): { id: number; uid: number }[] {
  const waiting = new Map<string, number[]>();
  for (const message of lost) {
    const key = keyOf(message);
    const ids = waiting.get(key);
    if (ids) ids.push(message.id);
    else waiting.set(key, [message.id]);
  }
  // Of very many alike none is taken off the front of a long list.
  for (const ids of waiting.values()) ids.reverse();
  return found.flatMap((message) => {
    const id = waiting.get(keyOf(message))?.pop();
    return id === undefined ? [] : [{ id, uid: message.uid }];
  });
}

const bare = ({ size, received }: Features) => `${size}\n${received.getTime()}`;

/** Whether nothing is known of a message but its size and its date. */
const isUnread = ({ emailId, messageId }: Features) => emailId === null && messageId === '';
