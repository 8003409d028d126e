import type { Amount } from '../../../core/level/level';
import type { Account } from '../../../store/access/accounts';
import type { Database, Queryable } from '../../../store/database';
import type { Operator } from '../../../store/host/operators';
import type { Round, RoundChange, RoundMailbox, RoundProblem } from '../../../store/host/rounds';
import type { WorkContext } from '../../context';

export type RoundContext = Pick<WorkContext, 'database' | 'vault' | 'log'>;

/** A mailbox of a round while one step is done for it, in one transaction. */
export interface At {
  database: Database;
  client: Queryable;
  vault: WorkContext['vault'];
  operator: Operator;
  round: Round;
  mailbox: RoundMailbox;
  account: Account;
  now: Date;
}

/** What comes of a step: what is written down, with how long the next one waits; or why nothing more comes. */
export type Outcome = { change: RoundChange; waitMs?: number } | { failed: RoundProblem };

/** Whose run it is, as the ledgers tell it. */
export function askedBy({ operator, round }: At): { user: string; via: 'round'; round: number } {
  return { user: operator.user, via: 'round', round: round.id };
}

/** What would go of a mailbox; nothing at all ends its part of the round. */
export function ready(amount: Amount, change: RoundChange): Outcome {
  const { messages, bytes } = amount;
  return { change: { ...change, messages, bytes, state: messages === 0 ? 'nothing' : 'ready' } };
}
