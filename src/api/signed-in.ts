import { accountsOfSession } from '../store/accounts';
import { touchSession } from '../store/sessions';
import { tokenHashOf } from './cookie';
import { type OfferedMailbox, theEnvironment } from './environment';

/** Whether the request belongs to a session that lives and has an account: pages ask this before they show anything. */
export async function isSignedIn(request: Request): Promise<boolean> {
  const environment = theEnvironment();
  const hash = tokenHashOf(request, environment);
  if (!hash || !(await touchSession(environment.database, hash))) return false;
  return (await accountsOfSession(environment.database, hash)).length > 0;
}

/** The mailbox that the sign-in page offers, in the demo. */
export function offeredMailbox(): OfferedMailbox | undefined {
  return theEnvironment().demo;
}
