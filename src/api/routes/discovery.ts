import * as v from 'valibot';
import { FoundServer } from '../../contract/schemas';
import { domainOf } from '../../core/mailbox/email-address';
import { discover, domainOfAddress } from '../../mail/discovery/discover';
import { networkOf } from '../network';
import { invalid } from '../problem';
import { takeAttempt } from '../rate-limit';
import { route } from '../route';

/** Look-ups of one address of the net within five minutes: each makes this instance ask others. */
const MAX_PER_ADDRESS = 30;

export const findServers = route({
  method: 'POST',
  path: '/discovery',
  summary: 'Finds the mail servers for an address, the best first, and says how it found each.',
  body: v.object({ address: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320)) }),
  response: v.object({ servers: v.array(FoundServer) }),
  async handle({ environment, body, clientAddress }) {
    await takeAttempt(environment.database, [
      { name: `look-up from ${networkOf(clientAddress)}`, most: MAX_PER_ADDRESS, seconds: 300 },
    ]);
    const domain = domainOfAddress(body.address);
    if (domain === undefined)
      throw invalid('That is not a mail address.', [{ field: 'address', expected: 'a mail address' }]);
    const servers = await discover(body.address, environment.outbound);
    const own = domainOf(`@${domain}`);
    return { servers: servers.map((server) => ({ ...server, within: domainOf(`@${server.host}`) === own })) };
  },
});
