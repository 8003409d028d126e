import * as clock from '../clock/clock';
import type { HostMailbox as ShownMailbox } from '../contract/types';
import { excessOf, fillsOf, fullestShare, type Measurement } from '../core/host/figures';
import { fullOn } from '../core/host/growth';
import { statesOf } from '../core/host/state';
import type { Account } from '../store/access/accounts';
import { type Database, snapshot } from '../store/database';
import { type HostMailbox, mailboxesOf } from '../store/host/mailboxes';
import { type Course, coursesOf, lastMeasurements } from '../store/host/measurements';
import type { Operator } from '../store/host/operators';

/** The mailboxes that an operator looks after, each as it was last measured. @param accounts of the session. */
export async function shownMailboxes(
  database: Database,
  operator: Operator,
  accounts: readonly Account[],
): Promise<ShownMailbox[]> {
  const now = clock.now();
  const [mailboxes, measured, courses] = await snapshot(database, async (client) => [
    await mailboxesOf(client, operator.id, now),
    await lastMeasurements(client, operator.id),
    await coursesOf(client, operator.id, now),
  ]);
  const opened = new Map(accounts.map(({ id, host, port, user, signInAs }) => [key(host, port, user, signInAs), id]));
  return mailboxes.map((mailbox) => {
    const { host, port, user } = mailbox;
    const isOwn = wayOf(operator, mailbox) !== 'operator' || user === operator.user;
    const account = opened.get(key(host, port, user, isOwn ? '' : operator.user)) ?? null;
    return { ...shown(operator, mailbox, measured.get(mailbox.id), courses.get(mailbox.id), now), account };
  });
}

function key(...parts: (string | number)[]): string {
  return JSON.stringify(parts);
}

/** How an operator gets into a mailbox. */
export function wayOf(operator: Operator, mailbox: HostMailbox): ShownMailbox['way'] {
  if (mailbox.hasPassword) return 'password';
  return mailbox.host === operator.host && mailbox.port === operator.port ? 'operator' : 'none';
}

function shown(
  operator: Operator,
  mailbox: HostMailbox,
  measured: Measurement | undefined,
  course: Course | undefined,
  now: Date,
): Omit<ShownMailbox, 'account'> {
  const { id, user, host, port, note, stated, problem } = mailbox;
  const fills = measured ? fillsOf(measured, stated) : null;
  const full = fills && fullOn(now, fills, course?.grown ?? null);
  const way = wayOf(operator, mailbox);
  const refused = problem !== null || way === 'none';
  return {
    ...{ id, user, host, port, way, note, stated, problem },
    domain: user.slice(user.lastIndexOf('@') + 1 || user.length),
    measuring: mailbox.measuring && operator.state === 'active',
    states: statesOf({ now, fills, stated, full, unused: course?.unused ?? false, refused }),
    measured:
      measured && fills
        ? {
            at: measured.at.toISOString(),
            ...fills,
            share: fullestShare(fills),
            excess: excessOf(fills, stated.target),
            unseen: measured.inbox.unseen,
            trash: measured.trash,
            junk: measured.junk,
          }
        : null,
    grown: course?.grown ?? null,
    full: full && { at: full.at.toISOString(), by: full.by },
  };
}
