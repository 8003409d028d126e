import type { Route } from '../route';
import * as archive from './archive';
import * as asks from './asks';
import * as authorizations from './authorizations';
import * as bags from './bags';
import * as bringIn from './bring-in';
import * as calendar from './calendar';
import * as categories from './categories';
import * as columns from './columns';
import * as criteria from './criteria';
import * as decisions from './decisions';
import * as discovery from './discovery';
import * as events from './events';
import * as files from './files';
import * as filters from './filters';
import * as forecast from './forecast';
import * as guards from './guards';
import * as ledger from './ledger';
import * as level from './level';
import * as lots from './lots';
import * as mailAddress from './mail-address';
import * as messages from './messages';
import * as hostMailboxes from './operators/mailboxes';
import * as openings from './operators/openings';
import * as rounds from './operators/rounds';
import * as operators from './operators/session';
import * as mailboxSheet from './operators/sheet';
import * as plan from './plan';
import * as echoes from './repeats/echoes';
import * as repeatedFiles from './repeats/files';
import * as pictures from './repeats/pictures';
import * as spacePictures from './repeats/space-pictures';
import * as doubled from './repeats/spaces';
import * as repeats from './repeats/summary';
import * as twins from './repeats/twins';
import * as retention from './retention';
import * as rules from './rules';
import * as runs from './runs';
import * as scans from './scans';
import * as senders from './senders';
import * as session from './session';
import * as settings from './settings';
import * as fileLots from './spaces/lots';
import * as fileRuns from './spaces/runs';
import * as spaces from './spaces/spaces';
import * as uploads from './spaces/uploads';
import * as standing from './standing';
import * as system from './system';
import * as tokens from './tokens';
import * as trash from './trash';
import * as warnings from './warnings';

/** Every call of the API, by the name that the OpenAPI document has for it (operationId). */
export const ROUTES: Record<string, Route> = {
  getHealth: system.getHealth,
  getMetrics: system.getMetrics,
  findServers: discovery.findServers,
  listAuthorizations: authorizations.listAuthorizations,
  beginAuthorization: authorizations.beginAuthorization,
  finishAuthorization: authorizations.finishAuthorization,
  beginDeviceAuthorization: authorizations.beginDeviceAuthorization,
  finishDeviceAuthorization: authorizations.finishDeviceAuthorization,
  signIn: session.signIn,
  getSession: session.getSession,
  signOut: session.signOut,
  leaveAccount: session.leave,
  listSessions: session.listSessions,
  endSession: session.endAnother,
  proveIdentity: session.proveIdentity,
  eraseAccount: session.erase,
  signInAsOperator: operators.signInAsOperator,
  listOperators: operators.listOperators,
  changeOperator: operators.changeOperator,
  leaveOperator: operators.leaveOperator,
  deleteOperator: operators.deleteOperator,
  listHostMailboxes: hostMailboxes.listHostMailboxes,
  addHostMailbox: hostMailboxes.addHostMailbox,
  changeHostMailbox: hostMailboxes.changeHostMailbox,
  dropHostMailbox: hostMailboxes.dropHostMailbox,
  measureHostMailboxes: hostMailboxes.measureHostMailboxes,
  listMeasurements: hostMailboxes.listMeasurements,
  listRounds: rounds.listRounds,
  makeRound: rounds.makeRound,
  getRound: rounds.getRound,
  carryOutRound: rounds.carryOut,
  stopRound: rounds.stop,
  readMailboxList: mailboxSheet.readMailboxList,
  downloadMailboxes: mailboxSheet.downloadMailboxes,
  openHostMailbox: openings.openHostMailbox,
  listHostActs: openings.listHostActs,
  getSettings: settings.getSettings,
  changeSettings: settings.changeSettings,
  requestMailAddress: mailAddress.requestMailAddress,
  confirmMailAddress: mailAddress.confirmMailAddress,
  startScan: scans.startScan,
  getScan: scans.getScan,
  getLevel: level.getLevel,
  listSpaces: spaces.listSpaces,
  findSpaces: spaces.findSpaces,
  addSpace: spaces.addFileSpace,
  changeSpace: spaces.changeSpace,
  forgetSpace: spaces.forgetFileSpace,
  listSpaceAgain: spaces.startListing,
  getSpaceContents: spaces.getSpaceContents,
  listSpaceFiles: spaces.listSpaceFiles,
  listSpacePictureSeries: spacePictures.listSpacePictureSeries,
  createSpacePictureLot: spacePictures.createSpacePictureLot,
  getSpaceFilePreview: spaces.getSpaceFilePreview,
  getSmallerSpacePicture: spaces.getSmallerSpacePicture,
  getSpaceFileWords: spaces.getSpaceFileWords,
  listFileLots: fileLots.listFileLots,
  makeFileLot: fileLots.makeFileLot,
  makeFileLots: fileLots.makeFileLots,
  changeFileLot: fileLots.changeFileLot,
  deleteFileLot: fileLots.deleteFileLot,
  estimateUpload: uploads.estimateUpload,
  startUpload: uploads.startUpload,
  listUploads: uploads.listUploads,
  getUpload: uploads.getUpload,
  listFilesOfUpload: uploads.listFilesOfUpload,
  pauseUpload: uploads.pauseUpload,
  resumeUpload: uploads.resumeUpload,
  cancelUpload: uploads.cancelUpload,
  createUploadLot: uploads.createUploadLot,
  listFilesOfLot: fileLots.listFilesOfLot,
  startFileRun: fileRuns.startFileRun,
  listFilesOfRun: fileRuns.listFilesOfRun,
  getSpaceTrash: fileRuns.getSpaceTrash,
  getForecast: forecast.getForecast,
  listWarnings: warnings.listWarnings,
  judgeWarnings: warnings.judgeWarnings,
  getCalendar: calendar.getCalendar,
  makeCalendar: calendar.makeCalendar,
  deleteCalendar: calendar.deleteCalendar,
  readCalendar: calendar.readCalendar,
  getRules: rules.getRules,
  tryRule: rules.tryRule,
  addRule: rules.addRule,
  runRules: rules.runRules,
  restoreScript: rules.restoreScript,
  deleteRule: rules.deleteRule,
  listBulkSenders: asks.listBulkSenders,
  readWays: asks.readWays,
  getRepeats: repeats.getRepeats,
  getProvenCopies: repeats.getProvenCopies,
  compareRepeats: repeats.compareRepeats,
  listDoubledFiles: doubled.listDoubledFiles,
  createDoubledLot: doubled.createDoubledLot,
  createDoubledFileLots: doubled.createDoubledFileLots,
  listTwins: twins.listTwins,
  listAlone: twins.listAlone,
  createTwinLot: twins.createTwinLot,
  listRepeatedFiles: repeatedFiles.listRepeatedFiles,
  createFileLot: repeatedFiles.createFileLot,
  listPictureSeries: pictures.listPictureSeries,
  createPictureLot: pictures.createPictureLot,
  listEchoes: echoes.listEchoes,
  createEchoLot: echoes.createEchoLot,
  tellApartAgain: repeats.tellApartAgain,
  askToStop: asks.askToStop,
  listStandingLots: standing.listStandingLots,
  makeStandingLot: standing.makeStandingLot,
  changeStandingLot: standing.changeStandingLot,
  tryStandingLot: standing.tryStandingLot,
  startStandingLot: standing.startStandingLot,
  stopStandingLot: standing.stopStandingLot,
  deleteStandingLot: standing.deleteStandingLot,
  listMessages: messages.listMessages,
  listSubjectOrder: messages.listSubjectOrder,
  getMessage: messages.getMessage,
  getMessageText: messages.getMessageText,
  getColumns: columns.getColumns,
  listFiles: files.listFiles,
  getFileColumns: files.getFileColumns,
  getFilePreview: files.getFilePreview,
  getFileWords: files.getFileWords,
  getSmallerPicture: files.getSmallerPicture,
  saveFiles: bags.saveFiles,
  listBags: bags.listBags,
  getBag: bags.getBag,
  listBagFiles: bags.listBagFiles,
  pauseBag: bags.pauseBag,
  resumeBag: bags.resumeBag,
  cancelBag: bags.cancelBag,
  downloadBag: bags.downloadBag,
  checkBag: bags.checkBag,
  holdBag: bags.holdBag,
  readBag: bags.readBag,
  listDamage: bags.listDamage,
  repairBag: bags.repairBag,
  repairFromCopy: bags.repairFromCopy,
  deleteBag: bags.deleteBag,
  getArchive: archive.getArchive,
  bringIn: bringIn.bringIn,
  sendOctets: bringIn.sendOctets,
  getRetention: retention.getRetention,
  startRetention: retention.startRetention,
  endRetention: retention.endRetentionExport,
  downloadArchive: archive.downloadArchive,
  getArchivedMessage: archive.getArchivedMessage,
  downloadArchivedMessage: archive.downloadArchivedMessage,
  downloadArchivedFile: archive.downloadArchivedFile,
  listMatches: criteria.listMatches,
  startSearch: criteria.startSearch,
  getSearch: criteria.getSearch,
  listFilters: filters.listFilters,
  saveFilter: filters.saveFilter,
  deleteFilter: filters.deleteFilter,
  listCategories: categories.listCategories,
  correctCategory: categories.correctCategory,
  listSenders: senders.listSenders,
  listFirstSenders: senders.listFirstSenders,
  listNewestOfSender: senders.listNewestOfSender,
  listNewestByKey: senders.listNewestByKey,
  createLot: lots.makeLot,
  listLots: lots.listLots,
  getLot: lots.getLot,
  changeLot: lots.alterLot,
  deleteLot: lots.deleteLot,
  splitLot: lots.splitOff,
  listLotMessages: lots.listLotMessages,
  getPlan: plan.getPlan,
  exceptFromPlan: plan.exceptFrom,
  dismissSuggestion: plan.dismiss,
  restoreSuggestions: plan.allow,
  listSuggestions: plan.listSuggestions,
  listGuards: guards.listGuards,
  createGuard: guards.makeGuard,
  changeGuard: guards.changeGuard,
  deleteGuard: guards.deleteGuard,
  liftHold: guards.liftGuard,
  listDecisions: decisions.listDecisions,
  decide: decisions.decide,
  downloadDecisionSheet: decisions.downloadDecisionSheet,
  readDecisionSheet: decisions.readDecisionSheet,
  startRun: runs.startRun,
  listRuns: runs.listRuns,
  getRun: runs.getRun,
  pauseRun: runs.pauseRun,
  resumeRun: runs.resumeRun,
  cancelRun: runs.cancelRun,
  listRunMessages: runs.listRunMessages,
  listTokens: tokens.listTokens,
  createToken: tokens.createToken,
  revokeToken: tokens.revokeToken,
  getTrash: trash.getTrash,
  createTrash: trash.createTrash,
  getLedgerHead: ledger.getLedgerHead,
  checkLedger: ledger.checkLedger,
  listActsOfOthers: ledger.listActsOfOthers,
  streamEvents: events.streamEvents,
};
