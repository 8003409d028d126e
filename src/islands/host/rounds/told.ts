import type { Amount, HostMailbox, Round } from '../../../contract/types';
import { ROUND_STATES, type RoundState } from '../../../core/host/round';
import { text } from '../../../ui/text';
import { count, octets, percent } from '../../../ui/text/format';

/** Messages and octets; '–' where there are none. */
export function amount({ messages, bytes }: Amount): string {
  return messages === 0 ? '–' : `${count(messages)} · ${octets(bytes, 'binary')}`;
}

/** The level of a mailbox, and what it would be without some of it; '–' where no limit is known. */
export function levelWithout(measured: HostMailbox['measured'] | undefined, { messages, bytes }: Amount): string {
  if (measured?.share == null) return '–';
  const shareOf = (fill: { used: number; limit: number | null } | null, less: number) =>
    fill?.limit ? Math.max(0, fill.used - less) / fill.limit : 0;
  const then = Math.max(shareOf(measured.bytes, bytes), shareOf(measured.messages, messages));
  return `${percent(measured.share)} → ${percent(then)}`;
}

/** What a round does, in a few words. */
export function titleOf({ kind, terms }: Pick<Round, 'kind' | 'terms'>): string {
  const { rounds } = text.host;
  if (kind === 'purge' && 'days' in terms)
    return rounds.purgeTitle(terms.trash && terms.junk ? 'both' : terms.trash ? 'trash' : 'junk', terms.days);
  if (kind === 'standing' && 'label' in terms) return rounds.standingTitle(terms.label);
  return rounds.emptyTitle;
}

/** How a round stands. */
export function saysOfRound(round: Round): string {
  const { rounds } = text.host;
  const { state, states, kind, on } = round;
  if (state === 'trying') return rounds.trying;
  if (state === 'asking') return rounds.asks;
  const told = ROUND_STATES.flatMap((each) => (states[each] ? [rounds.counted[each](count(states[each] ?? 0))] : []));
  const said = told.join(', ');
  if (kind === 'standing' && on > 0) return rounds.on(count(on), said);
  return state === 'stopped' ? rounds.stopped(said) : said;
}

/** How far a mailbox of a round is. */
export function saysOfState(state: RoundState, kind: Round['kind']): string {
  const { rounds } = text.host;
  return state === 'done' && kind === 'standing' ? rounds.started : rounds.states[state];
}
