import { createHash, createHmac, pbkdf2Sync, randomBytes } from 'node:crypto';

const ITERATIONS = 4_096;

/** The host's side of SCRAM-SHA-256 (RFC 5802, RFC 7677), written apart from the client's. */
export class ScramServer {
  private bare = '';
  private first = '';
  private nonce = '';
  private header = '';
  user = '';
  /** For whom the user acts, '' for themselves. */
  authorization = '';

  /** The server-first-message, in answer to the client-first-message; undefined where that can't be read. */
  begin(clientFirst: string, salt: Buffer): string | undefined {
    const match = /^(n,(?:a=([^,]*))?,)(n=([^,]+),r=([\x21-\x2b\x2d-\x7e]+))$/.exec(clientFirst);
    if (!match) return undefined;
    this.header = match[1] as string;
    this.authorization = named(match[2] ?? '');
    this.bare = match[3] as string;
    this.user = named(match[4] as string);
    this.nonce = (match[5] as string) + randomBytes(12).toString('base64');
    this.first = `r=${this.nonce},s=${salt.toString('base64')},i=${ITERATIONS}`;
    return this.first;
  }

  /** The server-final-message, in answer to the client-final-message; undefined where its proof is wrong. */
  finish(clientFinal: string, salt: Buffer, password: string): string | undefined {
    const [withoutProof = '', proof = ''] = clientFinal.split(/,p=/);
    if (withoutProof !== `c=${Buffer.from(this.header).toString('base64')},r=${this.nonce}`) return undefined;
    const salted = pbkdf2Sync(password, salt, ITERATIONS, 32, 'sha256');
    const mac = (key: Buffer, text: string) => createHmac('sha256', key).update(text).digest();
    const stored = createHash('sha256').update(mac(salted, 'Client Key')).digest();
    const message = `${this.bare},${this.first},${withoutProof}`;
    const signature = mac(stored, message);
    const key = Buffer.from(proof, 'base64').map((octet, index) => octet ^ (signature[index] ?? 0));
    if (!createHash('sha256').update(key).digest().equals(stored)) return undefined;
    return `v=${mac(mac(salted, 'Server Key'), message).toString('base64')}`;
  }
}

function named(name: string): string {
  return name.replaceAll('=2C', ',').replaceAll('=3D', '=');
}
