import { generatedItem } from '../message/item';
import { seedOf } from '../message/random';
import { compose } from './compose';
import type { Scenario, ScenarioMessage } from './mailbox';
import { type Person, SECRETARY } from './people';

/** A message that says that the mailbox is full. */
interface Warning {
  folder: string;
  from: Person;
  subject: string;
  lines: readonly string[];
  /** Whether the host signed it; of the others it found nothing that is right. */
  isOwn: boolean;
  /** Days before the last one. */
  before: number;
}

/** The host says how full the mailbox is; two others say something else, and want a link to be pressed. */
const WARNINGS: readonly Warning[] = [
  {
    folder: 'INBOX',
    from: { name: 'Mail host', address: 'postmaster@saltmarshlane.example' },
    subject: 'Your mailbox is almost full (96 %)',
    lines: [
      'This message was written by the mail host.',
      'secretary@saltmarshlane.example uses 96 % of its storage.',
      'Delete mail that you do not need, and empty the trash.',
    ],
    isOwn: true,
    before: 0.8,
  },
  {
    folder: 'Junk',
    from: { name: 'Mail Support', address: 'support@mailbox-upgrade.example' },
    subject: 'Your mailbox storage is 99.9% full!',
    lines: [
      'Incoming mail will be deleted within 24 hours.',
      'Press here to keep your mail:',
      'https://keep.mailbox-upgrade.example/verify?user=secretary',
    ],
    isOwn: false,
    before: 1.5,
  },
  {
    folder: 'Junk',
    from: { name: 'saltmarshlane.example', address: 'no-reply@quota-team.example' },
    subject: 'Mail quota exceeded: confirm your password',
    lines: [
      'Your mailbox has used 101% of its quota.',
      'Sign in to add more space:',
      'https://quota-team.example/login',
    ],
    isOwn: false,
    before: 2.5,
  },
];

/** A scenario in which warnings take the place of as many messages, so that there are as many as before. */
export function withWarnings(scenario: Scenario): Scenario {
  const messages = [...scenario.messages];
  const end = messages.reduce((last, { received }) => Math.max(last, received), 0);
  for (const [number, warning] of WARNINGS.entries()) {
    // Small ones that nobody answered or flagged.
    const at = messages.findIndex(
      ({ folder, item, seen, answered, flagged }) =>
        folder === warning.folder && item.size < 20_000 && !seen && !answered && !flagged,
    );
    if (at >= 0) messages.splice(at, 1);
    messages.push(made(warning, number, end));
  }
  messages.sort((a, b) => a.received - b.received);
  return { ...scenario, messages };
}

function made({ folder, from, subject, lines, isOwn, before }: Warning, number: number, end: number): ScenarioMessage {
  const date = Math.floor(end - before * 86_400);
  const host = from.address.split('@')[1] ?? '';
  const result = isOwn ? 'pass' : 'fail';
  const item = generatedItem(() =>
    compose({
      ...{ seed: seedOf(8_601, number), date, from, to: [SECRETARY], subject },
      messageId: `<warning.${number}.${date.toString(36)}@${host}>`,
      found: `mx.saltmarshlane.example;\r\n dkim=${result} header.d=${host} header.s=post;\r\n dmarc=${result} header.from=${host}`,
      extra: isOwn ? [['Auto-Submitted', 'auto-generated']] : [],
      text: lines.map((line) => ({ line, depth: 0 })),
    }),
  );
  return { folder, item, received: date + 9, seen: false, answered: false, flagged: false, draft: false };
}
