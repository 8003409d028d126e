import type { HostMailbox } from '../../contract/types';
import type { HostState } from '../../core/host/state';

/** What the list of mailboxes is ordered by. */
export const HOST_ORDERS = ['user', 'share', 'used', 'limit', 'messages', 'full', 'state'] as const;
export type HostOrder = (typeof HOST_ORDERS)[number];

/** What is shown of the mailboxes, and how. */
export interface Narrowing {
  /** In names, notes and states as they are told. */
  words: string;
  state: HostState | '';
  domain: string;
  order: HostOrder;
  descends: boolean;
}

/** By which most are wanted from the top; names and dates begin at the least. */
export function descendsFirst(order: HostOrder): boolean {
  return !['user', 'full', 'state'].includes(order);
}

/** @param saysOf how a mailbox's state is told, which is looked through too. */
export function narrowed(
  mailboxes: readonly HostMailbox[],
  { words, state, domain, order, descends }: Narrowing,
  saysOf: (mailbox: HostMailbox) => string,
  rankOf: (mailbox: HostMailbox) => number,
): HostMailbox[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const found = mailboxes.filter((mailbox) => {
    if (domain !== '' && mailbox.domain !== domain) return false;
    if (state !== '' && !mailbox.states.includes(state)) return false;
    const said = `${mailbox.user} ${mailbox.note} ${saysOf(mailbox)}`.toLowerCase();
    return wanted.every((word) => said.includes(word));
  });
  const value = (mailbox: HostMailbox) => orderedBy(mailbox, order, rankOf);
  return found.sort((a, b) => {
    const [one, other] = [value(a), value(b)];
    // What is not known comes last, whichever way round.
    if (one === null || other === null) return one === other ? a.id - b.id : one === null ? 1 : -1;
    const difference = typeof one === 'string' ? one.localeCompare(`${other}`) : one - Number(other);
    return (descends ? -difference : difference) || a.id - b.id;
  });
}

function orderedBy(
  mailbox: HostMailbox,
  order: HostOrder,
  rankOf: (mailbox: HostMailbox) => number,
): number | string | null {
  const { user, measured, full } = mailbox;
  switch (order) {
    case 'user':
      return user;
    case 'share':
      return measured?.share ?? null;
    case 'used':
      return measured?.bytes?.used ?? null;
    case 'limit':
      return measured?.bytes?.limit ?? null;
    case 'messages':
      return measured?.messages.used ?? null;
    case 'full':
      return full && Date.parse(full.at);
    case 'state':
      return rankOf(mailbox);
  }
}

/** Sums over some mailboxes. Octets. */
export interface HostSums {
  mailboxes: number;
  used: number;
  limit: number;
  notMail: number;
  messages: number;
  /** What must go for each to come down to its target. */
  excess: number;
}

export function sumsOf(mailboxes: readonly HostMailbox[]): HostSums {
  const sums = { mailboxes: mailboxes.length, used: 0, limit: 0, notMail: 0, messages: 0, excess: 0 };
  for (const { measured } of mailboxes) {
    if (!measured) continue;
    sums.used += measured.bytes?.used ?? 0;
    sums.limit += measured.bytes?.limit ?? 0;
    sums.notMail += measured.notMail ?? 0;
    sums.messages += measured.messages.used;
    sums.excess += measured.excess.bytes;
  }
  return sums;
}

/** The domains of mailboxes, those with most octets first. */
export function byDomain(mailboxes: readonly HostMailbox[]): { domain: string; sums: HostSums }[] {
  const groups = new Map<string, HostMailbox[]>();
  for (const mailbox of mailboxes) {
    const own = groups.get(mailbox.domain);
    if (own) own.push(mailbox);
    else groups.set(mailbox.domain, [mailbox]);
  }
  return [...groups]
    .map(([domain, own]) => ({ domain, sums: sumsOf(own) }))
    .sort((a, b) => b.sums.used - a.sums.used || (a.domain < b.domain ? -1 : 1));
}
