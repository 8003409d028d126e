import type { FirstFigures, Operator } from '../contract/types';
import { type Account, accountsOfSession } from '../store/access/accounts';
import { touchSession } from '../store/access/sessions';
import { operatorsOfSession } from '../store/host/operators';
import { lastScan } from '../store/index/scans';
import { planOf } from '../store/plan/lots';
import { tokenHashOf } from './cookie';
import { type Environment, theEnvironment } from './environment';
import { shownLevel } from './level';
import { shownAccount, shownOperator, shownScan, shownSettings } from './shown';

/**
 * What a page shows before any script of it runs: the accounts of the session, and of the one in view how full it is. The page
 * takes them for the answers to its own first questions.
 *
 * @param mailbox the id of the account in view, where the session has several.
 * @returns undefined where nobody is signed in.
 */
export async function firstFigures(request: Request, mailbox: string | null): Promise<FirstFigures | undefined> {
  const environment = theEnvironment();
  const accounts = await accountsSignedInTo(request, environment);
  const account = accounts.find(({ id }) => `${id}` === mailbox) ?? accounts[0];
  if (!account) return undefined;
  const { database } = environment;
  const [level, lots, scan] = await Promise.all([
    shownLevel(database, account),
    planOf(database, account.id),
    lastScan(database, account.id),
  ]);
  return asJson({
    accounts: accounts.map(shownAccount),
    account: account.id,
    settings: shownSettings(account, environment.canMail),
    level,
    lots,
    scan: scan && shownScan(scan),
  });
}

/** The accounts of a session, each with its level, for the page that shows them side by side. */
export async function firstLevels(request: Request): Promise<Pick<FirstFigures, 'accounts'> | undefined> {
  const accounts = await accountsSignedInTo(request, theEnvironment());
  return accounts.length === 0 ? undefined : asJson({ accounts: accounts.map(shownAccount) });
}

/** The accounts of the session of a request; none where it does not live. */
export async function accountsSignedInTo(request: Request, environment: Environment): Promise<Account[]> {
  const hash = tokenHashOf(request, environment);
  if (!hash || !(await touchSession(environment.database, hash))) return [];
  return accountsOfSession(environment.database, hash);
}

/** The operators of mail hosts whom the session of a request holds; none where it does not live. */
export async function operatorsSignedIn(request: Request): Promise<Operator[]> {
  const environment = theEnvironment();
  const hash = tokenHashOf(request, environment);
  if (!hash || !(await touchSession(environment.database, hash))) return [];
  return (await operatorsOfSession(environment.database, hash)).map(shownOperator);
}

/** As the API would send it. */
function asJson<T>(value: unknown): T {
  return JSON.parse(JSON.stringify(value)) as T;
}
