import type { HostMailbox } from '../../contract/types';
import { HOST_STATES, type HostState } from '../../core/host/state';
import { text } from '../../ui/text';
import { count, monthAndYear } from '../../ui/text/format';

const DAY_MS = 86_400_000;

/** States that want something of the operator now. */
const URGENT: ReadonlySet<HostState> = new Set(['full', 'full-by-number', 'almost-full']);

export function isUrgent({ states }: HostMailbox): boolean {
  return states.some((state) => URGENT.has(state));
}

/** What is said of a mailbox, the most urgent first. */
export function saysOf(mailbox: HostMailbox): string {
  const said = mailbox.states.map((state) => stateOf(mailbox, state));
  const { stated, measured, states } = mailbox;
  if (stated.catchesAll && measured && states[0] !== 'fine')
    said.push(text.host.states.junk(count(measured.junk.messages)));
  return said.join(' · ');
}

function stateOf({ stated, problem, measured, way }: HostMailbox, state: HostState): string {
  const { states } = text.host;
  if (state === 'left' && stated.leftOn) return states.leftIn(monthAndYear(`${stated.leftOn}T12:00:00Z`, 'UTC'));
  if (state === 'not-signed-in' && way === 'none') return states.needsPassword;
  if (state === 'not-signed-in' && problem && problem.kind !== 'password-refused') return states.unreachable;
  if (state === 'fine' && stated.catchesAll && measured) return states.junk(count(measured.junk.messages));
  return states[state];
}

/** How urgent what is said of a mailbox is: less is more. */
export function urgencyOf({ states }: HostMailbox): number {
  return HOST_STATES.indexOf(states[0] ?? 'fine');
}

/** When a mailbox is full, in the words that fit how soon that is; '–' where it is not known. */
export function fullIn({ full, states }: HostMailbox, timeZone: string): string {
  if (states.includes('full')) return text.host.full;
  if (states.includes('full-by-number')) return text.host.fullByNumber;
  if (!full) return '–';
  const days = Math.max(1, Math.round((Date.parse(full.at) - Date.now()) / DAY_MS));
  const when = days <= 60 ? text.host.days(days) : days <= 730 ? monthAndYear(full.at, timeZone) : full.at.slice(0, 4);
  return full.by === 'messages' ? text.host.byNumber(when) : when;
}
