import type { AgeUnit } from '../criteria/tree';

/** What the user says of a sender. */
export type Verdict =
  | { kind: 'keep' }
  | { kind: 'trash' }
  /** Trash what was received longer ago than this. */
  | { kind: 'older'; number: number; unit: AgeUnit }
  /** Trash all but so many, the newest by their date. */
  | { kind: 'newest'; count: number }
  /** Ask later. */
  | { kind: 'later' };

const OLDER = /^(?:trash )?older than (\d{1,4}) ?(d|w|mo|y)$/;
const NEWEST = /^(?:trash )?(?:all )?(?:but|except) (?:the )?newest (\d{1,5})$/;

/**
 * Reads a verdict as people write it: `keep`, `trash`, `trash older than 2y`, `trash all but the newest 10`, `ask later`;
 * letter case and further blanks don't matter.
 *
 * @returns undefined where it is none of these.
 */
export function parseVerdict(text: string): Verdict | undefined {
  const words = text.trim().toLowerCase().replace(/\s+/g, ' ');
  if (words === 'keep' || words === 'trash') return { kind: words };
  if (words === 'later' || words === 'ask later') return { kind: 'later' };
  const older = OLDER.exec(words);
  if (older && Number(older[1]) > 0) return { kind: 'older', number: Number(older[1]), unit: older[2] as AgeUnit };
  const newest = NEWEST.exec(words);
  if (newest && Number(newest[1]) > 0) return { kind: 'newest', count: Number(newest[1]) };
  return undefined;
}

/** Prints a verdict so that reading it gives the same. */
export function printVerdict(verdict: Verdict): string {
  switch (verdict.kind) {
    case 'older':
      return `trash older than ${verdict.number}${verdict.unit}`;
    case 'newest':
      return `trash all but the newest ${verdict.count}`;
    case 'later':
      return 'ask later';
    default:
      return verdict.kind;
  }
}

/** A message of a sender, for what a verdict takes of it. Seconds. */
export interface SenderMessage {
  id: number;
  received: number;
  date: number;
}

/**
 * What a verdict marks for the trash: the ids of the set, and of those excepted from it.
 *
 * @param older the instant that an age means, seconds.
 */
export function takenBy(
  verdict: Verdict,
  messages: readonly SenderMessage[],
  older: number,
): { members: number[]; except: number[] } {
  const all = messages.map(({ id }) => id);
  switch (verdict.kind) {
    case 'trash':
      return { members: all, except: [] };
    case 'older':
      return { members: messages.filter(({ received }) => received < older).map(({ id }) => id), except: [] };
    case 'newest': {
      const newest = [...messages].sort((a, b) => b.date - a.date || b.id - a.id).slice(0, verdict.count);
      return { members: all, except: newest.map(({ id }) => id) };
    }
    default:
      return { members: [], except: [] };
  }
}
