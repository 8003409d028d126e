import { randomBytes } from 'node:crypto';
import { readChallenges } from './challenges';
import { Digest } from './digest';
import { SpaceProblem } from './problem';

/** How one signs in to a file space: a password, or a token that is asked for anew when the server takes it no more. */
export type SpaceCredential =
  | { user: string; password: string }
  | { token: string; renew?: (() => Promise<string | undefined>) | undefined };

/** Signs requests as the server asks for it: a password by digest (RFC 7616), else in plain (RFC 7617), a token as RFC 6750 has it. */
export class Authorization {
  private digest: Digest | undefined;
  private isBasic = false;
  private token: string | undefined;

  /** Of a connection that nobody else can read: a password may go over it in plain. */
  constructor(private readonly credential: SpaceCredential) {
    if ('token' in credential) this.token = credential.token;
  }

  /** The field Authorization; undefined until the server has asked for something. */
  header(method: string, path: string): string | undefined {
    if (this.token !== undefined) return `Bearer ${this.token}`;
    if (this.digest) return this.digest.header(method, path, randomBytes(12).toString('hex'));
    if (!this.isBasic || 'token' in this.credential) return undefined;
    const { user, password } = this.credential;
    return `Basic ${Buffer.from(`${user}:${password}`, 'utf8').toString('base64')}`;
  }

  /**
   * Takes what the server asks for with 401, after a request that was signed as `header` said.
   *
   * @param wasSigned whether that request bore a signature.
   * @returns whether to ask again: not where what was shown was refused.
   * @throws SpaceProblem where nothing that it asks for can be shown.
   */
  async asked(field: string, wasSigned: boolean): Promise<boolean> {
    const { credential } = this;
    const challenges = readChallenges(field);
    if ('token' in credential) {
      const next = wasSigned ? await credential.renew?.() : undefined;
      if (next === undefined || next === this.token) return false;
      this.token = next;
      return true;
    }
    const isStale = challenges.some(({ parameters }) => parameters.get('stale')?.toLowerCase() === 'true');
    if (wasSigned && !isStale) return false;
    this.digest = Digest.answering(challenges, credential.user, credential.password);
    if (this.digest) return true;
    if (!challenges.some(({ scheme }) => scheme === 'basic'))
      throw new SpaceProblem('no-mechanism', 'The server asks for a way to sign in that Tamsel does not know.');
    this.isBasic = true;
    return true;
  }
}
