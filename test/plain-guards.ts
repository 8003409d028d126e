import { CATEGORIES } from '../src/core/categories/categories';
import { instantOfAge } from '../src/core/criteria/instants';
import { FLAG_BITS } from '../src/core/mailbox/flags';
import { fold } from '../src/core/text';

/** What of a message the guards from the beginning look at. */
export interface PlainMessage {
  id: number;
  folder: string;
  flags: number;
  received: Date;
  address: string;
  category: number;
  recipients: readonly { address: string }[];
}

/** The ids that the guards from the beginning keep, told one message after the other. */
export function plainlyGuarded(messages: readonly PlainMessage[], now: Date, timeZone: string): Set<number> {
  const yearAgo = instantOfAge(1, 'y', now, timeZone);
  const monthAgo = instantOfAge(30, 'd', now, timeZone);
  const lately = messages.filter(({ folder, received }) => folder === 'Sent' && received > yearAgo);
  const writtenTo = new Set(lately.flatMap(({ recipients }) => recipients.map(({ address }) => fold(address))));
  const kept = messages.filter(({ folder, flags, received, address, category }) => {
    if ((flags & FLAG_BITS.flagged) !== 0) return true;
    if (folder === 'Trash' || folder.startsWith('Trash/')) return false;
    const draft = folder === 'Drafts' || (flags & FLAG_BITS.draft) !== 0;
    if (draft && received > monthAgo) return true;
    if (folder === 'Sent' && received > yearAgo) return true;
    const people = !['mailings', 'automatic', 'own'].includes(CATEGORIES[category] as string);
    return people && address !== '' && writtenTo.has(fold(address));
  });
  return new Set(kept.map(({ id }) => id));
}
