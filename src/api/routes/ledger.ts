import * as v from 'valibot';
import { headOf } from '../../store/chain';
import { verifyLedger } from '../../store/verification';
import { route } from '../route';
import * as s from '../schemas';

const Head = v.object({ entries: v.number(), code: v.string(), at: v.nullable(s.Timestamp) });

export const showHead = route({
  method: 'GET',
  path: '/accounts/{account}/ledger/head',
  summary:
    'The newest entry of the ledger’s chain. Kept elsewhere, it shows later whether the ledger is still that one.',
  response: Head,
  handle: ({ environment, account }) => headOf(environment.database, account.id),
});

export const checkLedger = route({
  method: 'GET',
  path: '/accounts/{account}/ledger/check',
  summary:
    'Checks the ledger’s chain: every code, that the runs say what their entries say, and what was done in each.',
  query: v.object({
    /** A head that was kept: its number of entries and its code. */
    entries: v.optional(s.wholeNumber(0, 1_000_000_000)),
    code: v.optional(v.pipe(v.string(), v.regex(/^[0-9a-f]{0,64}$/, 'hexadecimal digits'))),
  }),
  response: v.object({ entries: v.number(), faults: v.array(v.string()), head: Head }),
  handle: ({ environment, account, query }) =>
    verifyLedger(
      environment.database,
      environment.vault,
      account.id,
      query.entries !== undefined && query.code !== undefined
        ? { entries: query.entries, code: query.code }
        : undefined,
    ),
});
