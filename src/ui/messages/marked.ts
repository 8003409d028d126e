import type { Amount, Message } from '../../contract/types';
import type { Marking } from '../grid/marking';

/** Messages and octets that are marked; exact, since what is marked one by one was loaded. */
export function markedAmount(marking: Marking<number>, rows: readonly Message[], total: Amount): Amount {
  const named = marking.kind === 'some' ? marking.keys : marking.except;
  let bytes = 0;
  for (const { id, size } of rows) if (named.has(id)) bytes += size;
  if (marking.kind === 'some') return { messages: named.size, bytes };
  return { messages: total.messages - named.size, bytes: total.bytes - bytes };
}
