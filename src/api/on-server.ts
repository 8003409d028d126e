import { SignInNeeded, signInTo } from '../jobs/sign-in';
import { MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import type { Account } from '../store/access/accounts';
import type { Environment } from './environment';
import { conflict, Problem } from './problem';

/** Asks the account's mail server something within a request; what it refuses becomes a problem for a person. */
export async function onServer<T>(
  environment: Environment,
  account: Account,
  title: string,
  ask: (server: MailServer) => Promise<T>,
): Promise<T> {
  let server: MailServer | undefined;
  try {
    server = await signInTo(environment, account);
    return await ask(server);
  } catch (error) {
    if (error instanceof SignInNeeded)
      throw conflict('sign-in-needed', 'The mail server no longer accepts Tamsel’s sign-in. Sign in again.');
    if (error instanceof MailProblem) throw new Problem(409, error.kind, title, error.message);
    throw error;
  } finally {
    await server?.close();
  }
}
