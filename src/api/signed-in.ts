import { accountsOfSession } from '../store/access/accounts';
import { touchSession } from '../store/access/sessions';
import { tokenHashOf } from './cookie';
import { type OfferedMailbox, theEnvironment } from './environment';

/** How many accounts the session of a request has; none where it does not live. */
export async function accountsSignedInTo(request: Request): Promise<number> {
  const environment = theEnvironment();
  const hash = tokenHashOf(request, environment);
  if (!hash || !(await touchSession(environment.database, hash))) return 0;
  return (await accountsOfSession(environment.database, hash)).length;
}

/** Whether there is anything to show: pages ask this first. */
export async function isSignedIn(request: Request): Promise<boolean> {
  return (await accountsSignedInTo(request)) > 0;
}

/** The mailbox that the sign-in page offers, in the demo. */
export function offeredMailbox(): OfferedMailbox | undefined {
  return theEnvironment().demo;
}
