import { parseCriteria } from '../../../core/criteria/parse';
import type { StandingRoundTerms } from '../../../core/host/round';
import { isOfFiles } from '../../../core/plan/fates';
import { monthlyOf } from '../../../core/standing/trial';
import { foldersOf } from '../../../store/index/folders';
import { createStanding, standingById, updateStanding } from '../../../store/plan/standing';
import { tryOnPast } from '../../../store/plan/standing-trial';
import { askForTexts } from '../../ask-for-texts';
import { trashProblem } from '../../run/begin';
import { nextOf } from '../../standing';
import type { At, Outcome } from './at';

/** What the mail server has to look for is looked at again after so long. */
const SEARCHED_MS = 1_000;

/** Makes the standing lot in the mailbox, where it does nothing yet, and tries it on the past. */
export async function tryStanding(at: At, terms: StandingRoundTerms): Promise<Outcome> {
  const { database, client, account, now } = at;
  const parsed = parseCriteria(terms.where);
  if (!parsed.ok) return { failed: { kind: 'criteria', detail: `Its criteria can’t be read: ${terms.where}` } };
  const trouble = trashProblem(await foldersOf(client, account.id), account, terms.fate);
  if (trouble) return { failed: trouble };
  const asked = await askForTexts(client, account.id, parsed.criteria);
  if (asked === 'failed')
    return { failed: { kind: 'search-failed', detail: 'The mail server could not be searched.' } };
  if (asked === 'asked') return { change: {}, waitMs: SEARCHED_MS };
  const trial = await tryOnPast(database, account, parsed.criteria, terms.fate, now);
  const standing = await createStanding(client, account.id, { ...terms, mail: false });
  await updateStanding(client, account.id, standing, { trial, triedAt: now });
  const { messages, bytes, flagged, answered } = trial.now;
  const cared = isOfFiles(terms.fate) ? 0 : flagged + answered;
  // What takes nothing today may take something tomorrow.
  return { change: { standing, messages, bytes, tried: { monthly: monthlyOf(trial), cared }, state: 'ready' } };
}

/** Lets the standing lot go by itself. */
export async function beginStanding({ client, account, mailbox, now }: At): Promise<Outcome> {
  const lot = await standingById(client, account.id, mailbox.standing ?? 0, { lock: true });
  if (!lot) return { failed: { kind: 'lot-gone', detail: 'Somebody deleted its standing lot in the mailbox.' } };
  await updateStanding(client, account.id, lot.id, {
    state: 'on',
    failures: 0,
    startedAt: now,
    ...nextOf({ rhythm: lot.rhythm, nextOn: null }, account.settings.timeZone, now),
  });
  return { change: { state: 'done' } };
}
