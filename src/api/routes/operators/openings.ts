import * as v from 'valibot';
import * as h from '../../../contract/host';
import { OpeningReason, SignedIn } from '../../../contract/schemas';
import { wayInto } from '../../../jobs/host/sign-in';
import { actsOfOperator } from '../../../store/host/acts';
import { route } from '../../route';
import { admitSignIn, signInWith } from '../../sign-in';
import { mailboxIn, passwordNeeded } from './mailboxes';

export const openHostMailbox = route({
  method: 'POST',
  path: '/operators/{operator}/mailboxes/{mailbox}/openings',
  session: true,
  summary:
    'Opens a mailbox for its owner: signs in to it, adds its account to the session and begins a scan. The reason is written into the ledger of the mailbox, where its owner sees it.',
  body: v.object({ reason: OpeningReason }),
  status: 201,
  response: SignedIn,
  async handle(context) {
    const { environment, operator, parameters, body } = context;
    const mailbox = await mailboxIn(environment.database, operator, parameters);
    const way = await wayInto(environment, operator, mailbox);
    if (!way) throw passwordNeeded();
    const { host, port, user } = mailbox;
    const security = way.signInAs === undefined ? mailbox.security : operator.security;
    await admitSignIn(context, { host, port, security, user }, way.signInAs);
    const opening = { by: operator.user, reason: body.reason };
    return signInWith(context, { host, port, security, user }, { proof: way, secret: way, opening });
  },
});

/** Acts that are listed at most. */
const MAX_ACTS = 1_000;

export const listHostActs = route({
  method: 'GET',
  path: '/operators/{operator}/acts',
  session: true,
  summary:
    'Lists what the operator did in mailboxes, as their ledgers tell it: which were opened and why, and the runs there. The newest come first, at most 1,000.',
  response: v.object({ acts: v.array(h.HostAct), total: v.number() }),
  handle: ({ environment: { database, vault }, operator }) => actsOfOperator(database, vault, operator, MAX_ACTS),
});
