import { notBuilt } from '../problem';
import type { Route } from '../route';
import { route } from '../route';
import { correctCategory, listCategories } from './categories';
import { showColumns } from './columns';
import * as criteria from './criteria';
import { events } from './events';
import { alterLot, listLots, makeLot, removeLot } from './lots';
import * as mailbox from './mailbox';
import * as runs from './runs';
import { listSenders, newest } from './senders';
import { erase, showSession, signIn, signOut } from './session';
import { health } from './system';

/** A call that the design names and nothing answers yet. */
const later = (method: Route['method'], path: string, what: string) =>
  route({
    method,
    path,
    summary: `${what}: not built yet.`,
    status: 501,
    handle: () => {
      throw notBuilt(what);
    },
  });

/** Every call of the API. */
export const ROUTES: Route[] = [
  health,
  signIn,
  showSession,
  signOut,
  erase,
  mailbox.showSettings,
  mailbox.changeSettings,
  mailbox.startScan,
  mailbox.showScan,
  mailbox.showLevel,
  mailbox.listMessages,
  mailbox.listOrder,
  mailbox.showMessage,
  mailbox.showText,
  showColumns,
  criteria.listMatches,
  criteria.startSearch,
  criteria.showSearch,
  criteria.listKept,
  criteria.keep,
  criteria.forget,
  listCategories,
  correctCategory,
  listSenders,
  newest,
  makeLot,
  listLots,
  alterLot,
  removeLot,
  runs.startRun,
  runs.listRuns,
  runs.showRun,
  runs.pauseRun,
  runs.resumeRun,
  runs.cancelRun,
  runs.listRunMessages,
  events,
  later('GET', '/accounts/{account}/guards', 'Guards'),
  later('POST', '/accounts/{account}/guards', 'Guards'),
];
