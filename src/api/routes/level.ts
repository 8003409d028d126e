import * as s from '../../contract/schemas';
import { shownLevel } from '../level';
import { route } from '../route';

export const getLevel = route({
  method: 'GET',
  path: '/accounts/{account}/level',
  summary: 'Returns how full the account is, and where.',
  response: s.Level,
  handle: ({ environment, account }) => shownLevel(environment.database, account),
});
