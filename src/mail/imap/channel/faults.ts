import { MailProblem } from '../../problem';
import { Malformed } from '../wire/cursor';

/** Reads what came of an answer, which has to be whole. */
export function whole<T>(read: () => T): T {
  try {
    return read();
  } catch (error) {
    if (!(error instanceof Malformed)) throw error;
    throw new MailProblem(
      'unreadable-answer',
      `Tamsel could not read the server’s answer. It expected ${error.message}.`,
      { cause: error },
    );
  }
}

export function unreadable(sentence: string): MailProblem {
  return new MailProblem('unreadable-answer', sentence);
}

/** A refusal is an answer; everything else is raised. */
export function ignoreRefusal(error: unknown): void {
  const raised: ReadonlySet<string> = new Set(['connection-lost', 'unreadable-answer', 'timed-out', 'throttled']);
  if (!(error instanceof MailProblem) || raised.has(error.kind)) throw error;
}
