import type { Cursor } from '../wire/cursor';

/** A quota root and its resources (RFC 9208 §5.1); null where it limits no such thing. */
export interface QuotaAnswer {
  name: string;
  /** Octets: the server counts them in units of 1024. */
  storage: { used: number; limit: number } | null;
  messages: { used: number; limit: number } | null;
}

const UNIT = 1024;

/** Reads QUOTA, the cursor behind its word. Throws Malformed. */
export function readQuota(cursor: Cursor): QuotaAnswer {
  const answer: QuotaAnswer = { name: cursor.octets(), storage: null, messages: null };
  cursor.list();
  while (!cursor.closes()) {
    const resource = cursor.word();
    const used = cursor.number();
    const limit = cursor.number();
    if (resource === 'STORAGE') answer.storage = { used: used * UNIT, limit: limit * UNIT };
    else if (resource === 'MESSAGE') answer.messages = { used, limit };
  }
  return answer;
}
