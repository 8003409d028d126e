import { createHash } from 'node:crypto';
import type { Challenge } from './challenges';

const HASHES: Readonly<Record<string, string>> = { 'sha-256': 'sha256', md5: 'md5' };

/** Shows that one knows a password without sending it (RFC 7616). Each answer counts up, so that none can be used twice. */
export class Digest {
  private count = 0;

  private constructor(
    private readonly user: string,
    private readonly password: string,
    private readonly parameters: ReadonlyMap<string, string>,
    private readonly hash: string,
    private readonly isSession: boolean,
    private readonly hasCount: boolean,
  ) {}

  /** Of several the best that can be answered: SHA-256 before MD5 (RFC 7616 §3.7). */
  static answering(challenges: readonly Challenge[], user: string, password: string): Digest | undefined {
    for (const wanted of Object.keys(HASHES))
      for (const { scheme, parameters } of challenges) {
        const algorithm = (parameters.get('algorithm') ?? 'MD5').toLowerCase();
        const qop = parameters.get('qop');
        const canAnswer = qop === undefined || qop.split(',').some((one) => one.trim().toLowerCase() === 'auth');
        if (scheme !== 'digest' || algorithm.replace(/-sess$/, '') !== wanted || !canAnswer) continue;
        if (!parameters.has('nonce') || !parameters.has('realm')) continue;
        const hash = HASHES[wanted] as string;
        return new Digest(user, password, parameters, hash, algorithm.endsWith('-sess'), qop !== undefined);
      }
    return undefined;
  }

  /** The field Authorization for one request. */
  header(method: string, path: string, clientNonce: string): string {
    const said = (name: string) => this.parameters.get(name) ?? '';
    const count = (++this.count).toString(16).padStart(8, '0');
    const nonce = said('nonce');
    const secret = this.of(`${this.user}:${said('realm')}:${this.password}`);
    const first = this.isSession ? this.of(`${secret}:${nonce}:${clientNonce}`) : secret;
    const second = this.of(`${method}:${path}`);
    const response = this.of(
      this.hasCount ? `${first}:${nonce}:${count}:${clientNonce}:auth:${second}` : `${first}:${nonce}:${second}`,
    );
    return [
      `Digest username=${quoted(this.user)}`,
      `realm=${quoted(said('realm'))}`,
      `uri=${quoted(path)}`,
      ...(this.parameters.has('algorithm') ? [`algorithm=${said('algorithm')}`] : []),
      `nonce=${quoted(nonce)}`,
      ...(this.hasCount ? [`nc=${count}`, `cnonce=${quoted(clientNonce)}`, 'qop=auth'] : []),
      `response="${response}"`,
      ...(this.parameters.has('opaque') ? [`opaque=${quoted(said('opaque'))}`] : []),
    ].join(', ');
  }

  private of(text: string): string {
    return createHash(this.hash).update(text, 'utf8').digest('hex');
  }
}

function quoted(text: string): string {
  return `"${text.replace(/["\\]/g, '\\$&')}"`;
}
