import { MailProblem } from '../../mail/problem';
import { isDatabaseTrouble } from '../../store/database';
import { lockOperator, noteRefused, operatorById } from '../../store/host/operators';
import type { SignInContext } from '../sign-in';
import { signInFor } from './sign-in';

/** Mailboxes in a row that a host may refuse before the operator's own password is in doubt. */
const DOUBTFUL = 5;

/**
 * Counts a mailbox that the host refused to an operator. After several in a row the password is tried at the mailbox that the operator
 * could open when signing in: where it is good no more, nobody tries further, so that the host does not shut them out.
 */
export async function countRefusal(context: SignInContext, id: number): Promise<void> {
  const refusals = await noteRefused(context.database, id);
  const operator = refusals % DOUBTFUL === 0 ? await operatorById(context.database, id) : undefined;
  if (!operator) return;
  const { host, port, security, proof } = operator;
  try {
    const server = await signInFor(context, operator, { id: 0, host, port, security, user: proof });
    await server.close();
  } catch (error) {
    if (error instanceof MailProblem && error.kind === 'password-refused') await lockOperator(context.database, id);
    else if (isDatabaseTrouble(error)) throw error;
  }
}
