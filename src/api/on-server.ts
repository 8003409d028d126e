import { type SignInContext, SignInNeeded, signInTo } from '../jobs/sign-in';
import { MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import type { Account } from '../store/access/accounts';
import { conflict, Problem } from './problem';

/** Asks the account's mail server something within a request; what it refuses becomes a problem for a person. */
export async function onServer<T>(
  context: SignInContext,
  account: Account,
  title: string,
  ask: (server: MailServer) => Promise<T>,
): Promise<T> {
  let server: MailServer | undefined;
  try {
    server = await signInTo(context, account);
    return await ask(server);
  } catch (error) {
    throw asProblem(error, title);
  } finally {
    await server?.close();
  }
}

/** What a mail server refuses, as a problem for a person; all else as it is. */
export function asProblem(error: unknown, title: string): unknown {
  if (error instanceof SignInNeeded)
    return conflict('sign-in-needed', 'The mail server no longer accepts Tamsel’s sign-in. Sign in again.');
  return error instanceof MailProblem ? new Problem(409, error.kind, title, error.message) : error;
}
