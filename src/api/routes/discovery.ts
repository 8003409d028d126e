import * as v from 'valibot';
import { domainOf } from '../../core/senders/address';
import { discover, domainOfAddress } from '../../mail/discovery/discover';
import { admitAttempt } from '../attempts';
import { networkOf } from '../network';
import { invalid } from '../problem';
import { route } from '../route';

/** Look-ups of one address of the net within five minutes: each makes this instance ask others. */
const MOST_BY_ADDRESS = 30;

export const findServers = route({
  method: 'POST',
  path: '/discovery',
  summary: 'Finds the mail servers of an address, the best first, and says how; none where nobody tells.',
  body: v.object({ address: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320)) }),
  response: v.object({
    servers: v.array(
      v.object({
        host: v.string(),
        port: v.number(),
        security: v.picklist(['tls', 'starttls']),
        user: v.string(),
        /** The operator's list, SRV records, what the domain publishes, or a usual name at which a server answered. */
        how: v.picklist(['list', 'dns', 'config', 'guess']),
        /** Whether its name lies in the domain of the address: where not, somebody should look at it (RFC 6186 §6). */
        within: v.boolean(),
      }),
    ),
  }),
  async handle({ environment, body, clientAddress }) {
    await admitAttempt(environment.database, [
      { name: `look-up from ${networkOf(clientAddress)}`, most: MOST_BY_ADDRESS, seconds: 300 },
    ]);
    const domain = domainOfAddress(body.address);
    if (domain === undefined)
      throw invalid('That is not a mail address.', [{ field: 'address', expected: 'a mail address' }]);
    const servers = await discover(body.address, environment.outgoing);
    const own = domainOf(`@${domain}`);
    return { servers: servers.map((server) => ({ ...server, within: domainOf(`@${server.host}`) === own })) };
  },
});
