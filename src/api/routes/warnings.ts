import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { readWarnings } from '../../jobs/read-warnings';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { fullWarnings } from '../../store/index/full-warnings';
import { onServer } from '../on-server';
import { route } from '../route';

async function shownWarnings(database: Database, account: Account) {
  const found = await fullWarnings(database, account.id, account.settings.limit);
  const warnings = found.map(({ id, subject, fromName, from, received, folder, judged }) => ({
    ...{ id, subject, received, folder, judged },
    from: { name: fromName, address: from },
  }));
  return { warnings, unread: warnings.filter(({ judged }) => judged === null).length };
}

const Shown = v.object({ warnings: v.array(s.FullWarning), unread: v.number() });

export const listWarnings = route({
  method: 'GET',
  path: '/accounts/{account}/warnings',
  summary:
    'Lists the newest messages that say that the mailbox is full, at most 50, and whether each comes from the mail host. `unread` counts those that were not looked at yet.',
  response: Shown,
  handle: ({ environment: { database }, account }) => shownWarnings(database, account),
});

export const judgeWarnings = route({
  method: 'POST',
  path: '/accounts/{account}/warnings',
  summary:
    'Reads the messages that were not looked at yet, and holds each against the server’s figure at that time, the host’s domain, and its authentication results (RFC 8601). No link is followed.',
  body: v.object({}),
  response: Shown,
  async handle({ environment, account }) {
    await onServer(environment, account, 'The messages could not be read', (server) =>
      readWarnings(environment, account, server),
    );
    return shownWarnings(environment.database, account);
  },
});
