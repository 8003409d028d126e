import { toUnicode } from 'punycode/';
import type { GroupingKind } from '../../core/senders/grouping';
import { text } from '../../ui/text';
import type { SenderRow } from '../../workers/protocol';

/** How a sender is called: a domain of several people by itself, one who is one by the name. */
export function titleOf({ by, key, names }: Pick<SenderRow, 'by' | 'key' | 'names'>): { title: string; note: string } {
  const [name] = names;
  if (by === 'domain' && names.length > 1)
    return { title: readable(key) || text.senders.nobody, note: text.senders.andOthers(name as string) };
  return { title: name || readable(key) || text.senders.nobody, note: name ? readable(key) : '' };
}

/** An internationalised domain as people read it (RFC 5890, from A-labels to U-labels); others as they are. */
export function readable(key: string): string {
  return key.includes('xn--') ? toUnicode(key) : key;
}

/** Whether a key has another form than the one in which it is written. */
export function otherForm(key: string): string | undefined {
  const unicode = readable(key);
  return unicode === key ? undefined : unicode;
}

/** What names a decision: one sender has one. */
export function nameOfSender({ by, key }: { by: GroupingKind; key: string }): string {
  return `${by} ${key}`;
}
