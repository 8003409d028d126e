import type { ActOfOther } from '../contract/types';
import { text } from './text';
import { count } from './text/format';

/** An act of somebody in a mailbox, in a sentence. */
export function saidOfAct({ what, reason = '', action = '', label = '', run = 0 }: ActOfOther): string {
  const { others, actions } = text.ledger;
  if (what === 'opened') return others.opened(reason);
  const named = actions[action as keyof typeof actions] ?? action;
  if (what === 'asked') return others.asked(run, named, label);
  if (what === 'ended') return others.ended(run, named, label);
  return what === 'settled' ? others.settled(run) : others.bag[what](label);
}

/** How many messages it was about; '' where it was about none. */
export function messagesOfAct({ what, asked, done }: ActOfOther): string {
  const amount = what === 'ended' ? done : asked;
  return amount ? count(amount.messages) : '';
}
