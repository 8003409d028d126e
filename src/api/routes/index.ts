import type { Route } from '../route';
import * as authorizations from './authorizations';
import { correctCategory, listCategories } from './categories';
import { showColumns } from './columns';
import * as criteria from './criteria';
import * as decisions from './decisions';
import { findServers } from './discovery';
import { events } from './events';
import * as guards from './guards';
import * as ledger from './ledger';
import * as lots from './lots';
import { confirmMailAddress, wantMailAt } from './mail-address';
import * as mailbox from './mailbox';
import * as plan from './plan';
import * as runs from './runs';
import { firstRanking, listSenders, newest, newestByKey } from './senders';
import { endAnother, erase, leave, listSessions, prove, showSession, signIn, signOut } from './session';
import { health } from './system';
import * as tokens from './tokens';
import * as trash from './trash';

/** Every call of the API. */
export const ROUTES: Route[] = [
  health,
  findServers,
  authorizations.listAuthorizations,
  authorizations.beginAuthorization,
  authorizations.finishAuthorization,
  authorizations.beginDevice,
  authorizations.askDevice,
  signIn,
  showSession,
  signOut,
  leave,
  listSessions,
  endAnother,
  prove,
  erase,
  mailbox.showSettings,
  mailbox.changeSettings,
  wantMailAt,
  confirmMailAddress,
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
  firstRanking,
  newest,
  newestByKey,
  lots.makeLot,
  lots.listLots,
  lots.showLot,
  lots.alterLot,
  lots.removeLot,
  lots.splitOff,
  lots.listLotMessages,
  plan.showPlan,
  plan.exceptFrom,
  plan.refuse,
  plan.allow,
  plan.suggestions,
  guards.listGuards,
  guards.makeGuard,
  guards.alterGuard,
  guards.removeGuard,
  guards.liftGuard,
  decisions.listDecisions,
  decisions.decide,
  decisions.downloadSheet,
  decisions.readSheet,
  runs.startRun,
  runs.listRuns,
  runs.showRun,
  runs.pauseRun,
  runs.resumeRun,
  runs.cancelRun,
  runs.listRunMessages,
  tokens.listTokens,
  tokens.makeApiToken,
  tokens.withdraw,
  trash.showTrash,
  trash.makeTrash,
  ledger.showHead,
  ledger.checkLedger,
  events,
];
