import type { Untagged } from '../channel/dialogue';
import { Malformed } from '../wire/cursor';
import type { Status } from '../wire/status';

/** What SELECT tells of a folder (RFC 9051 §6.3.2). */
export interface Opened {
  messages: number;
  uidValidity: number;
  /** Null where the server does not tell it. */
  uidNext: number | null;
  /** Null without CONDSTORE, and for a folder that keeps none (NOMODSEQ, RFC 7162 §3.1.2.2). */
  modSeq: number | null;
  readOnly: boolean;
}

/** Reads the answer to SELECT. */
export class OpenedAnswer {
  private messages: number | undefined;
  private uidValidity: number | undefined;
  private uidNext: number | null = null;
  private modSeq: number | null = null;

  take({ word, number, status }: Untagged): boolean {
    if (word === 'EXISTS' && number !== undefined) {
      this.messages = number;
      return true;
    }
    if (status?.kind !== 'OK') return word === 'FLAGS' || word === 'RECENT';
    if (status.code === 'UIDVALIDITY') this.uidValidity = count(status.details);
    else if (status.code === 'UIDNEXT') this.uidNext = count(status.details);
    else if (status.code === 'HIGHESTMODSEQ') this.modSeq = count(status.details);
    else return false;
    return true;
  }

  ended({ code }: Status): Opened {
    const { messages, uidValidity, uidNext, modSeq } = this;
    if (messages === undefined) throw new Malformed('the number of messages');
    if (!uidValidity) throw new Malformed('a UIDVALIDITY');
    return { messages, uidValidity, uidNext, modSeq, readOnly: code === 'READ-ONLY' };
  }
}

/** A number that is all there is. Throws Malformed. */
export function count(text: string): number {
  const number = /^\d{1,19}$/.test(text.trim()) ? Number(text) : Number.NaN;
  if (!Number.isSafeInteger(number)) throw new Malformed('a number');
  return number;
}
