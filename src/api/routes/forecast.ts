import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { forecastOf } from '../../jobs/forecast';
import { route } from '../route';

export const getForecast = route({
  method: 'GET',
  path: '/accounts/{account}/forecast',
  summary:
    'Tells when the mailbox is full, by what came in and stayed in the last twelve whole months, with a range: one time in ten it is earlier, one time in ten later. A date that is null is more than ten years away. Nothing is told by less than three months.',
  response: s.Forecast,
  handle: ({ environment, account }) => forecastOf(environment.database, account, clock.now()),
});
