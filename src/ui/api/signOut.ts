import { call } from './call';

/** Ends the session, with all its accounts. */
export async function signOut(): Promise<void> {
  await call('/session', { method: 'DELETE' });
  window.location.assign('/sign-in');
}
