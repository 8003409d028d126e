import * as v from 'valibot';
import * as s from '../../contract/schemas';
import { headOf } from '../../store/runs/ledger-chain';
import { verifyLedger } from '../../store/runs/ledger-verification';
import { actsOfOthers } from '../../store/runs/openings';
import { route } from '../route';

export const getLedgerHead = route({
  method: 'GET',
  path: '/accounts/{account}/ledger/head',
  summary:
    'Returns the newest entry of the ledger. If you keep it elsewhere, you can check later that nothing was cut off.',
  response: s.LedgerHead,
  handle: ({ environment, account }) => headOf(environment.database, account.id),
});

/** Acts that are listed at most. */
const MAX_ACTS = 500;

export const listActsOfOthers = route({
  method: 'GET',
  path: '/accounts/{account}/ledger/others',
  summary:
    'Lists who opened this mailbox for its owner, why, and what they did there. The newest come first, at most 500.',
  response: v.object({ acts: v.array(s.ActOfOther), total: v.number() }),
  handle: ({ environment, account }) => actsOfOthers(environment.database, environment.vault, account.id, MAX_ACTS),
});

export const checkLedger = route({
  method: 'GET',
  path: '/accounts/{account}/ledger/check',
  summary: 'Checks the ledger: the code of every entry, and that the database agrees with it.',
  query: v.object({
    /** A head that was kept: its number of entries and its code. */
    entries: v.optional(s.wholeNumber(0, 1_000_000_000)),
    code: v.optional(v.pipe(v.string(), v.regex(/^[0-9a-f]{0,64}$/, 'hexadecimal digits'))),
  }),
  response: s.LedgerCheck,
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
