import { createHash, createHmac, pbkdf2, randomBytes, timingSafeEqual } from 'node:crypto';
import { promisify } from 'node:util';
import { prepared } from './prepared';

const HASH = 'sha256';
const OCTETS = 32;

/** The fewest iterations that RFC 7677 §4 allows, and the most that we do for a server: some seconds. */
const MIN_ITERATIONS = 4_096;
const MAX_ITERATIONS = 2_000_000;

/** A server that breaks the exchange, or can't prove that it knows the password. */
export class ScramFailure extends Error {}

/**
 * The client's side of SCRAM-SHA-256 without channel binding (RFC 5802, RFC 7677): the password never goes to the server,
 * and the server proves that it knows it. Messages are plain text here, base64 on the wire.
 */
export class ScramClient {
  private readonly header: string;
  private readonly bare: string;
  private serverSignature: Buffer | undefined;

  /**
   * @param authorization whose mailbox it is, '' for the user's own.
   * @param nonce printable ASCII but commas; random unless a test says which.
   */
  constructor(
    user: string,
    private readonly password: string,
    authorization = '',
    private readonly nonce = randomBytes(18).toString('base64'),
  ) {
    this.header = `n,${authorization === '' ? '' : `a=${saslName(authorization)}`},`;
    this.bare = `n=${saslName(user)},r=${nonce}`;
  }

  /** The client-first-message. */
  first(): string {
    return this.header + this.bare;
  }

  /** The client-final-message, in answer to the server-first-message. Throws a ScramFailure. */
  async final(serverFirst: string): Promise<string> {
    const { r: nonce = '', s: salt = '', i: iterations = '', m: extension } = attributesOf(serverFirst);
    // RFC 5802 §5.1: an extension that is mandatory and not known ends the exchange.
    if (extension !== undefined) throw new ScramFailure('an extension that is not known');
    if (!nonce.startsWith(this.nonce) || nonce.length === this.nonce.length) throw new ScramFailure('a foreign nonce');
    const count = /^\d{1,10}$/.test(iterations) ? Number(iterations) : 0;
    if (salt === '' || count < MIN_ITERATIONS || count > MAX_ITERATIONS)
      throw new ScramFailure('a salt or a count that is not accepted');
    const salted = await promisify(pbkdf2)(prepared(this.password), Buffer.from(salt, 'base64'), count, OCTETS, HASH);
    const withoutProof = `c=${base64(this.header)},r=${nonce}`;
    const signed = `${this.bare},${serverFirst},${withoutProof}`;
    const clientKey = keyed(salted, 'Client Key');
    const signature = keyed(createHash(HASH).update(clientKey).digest(), signed);
    const proof = clientKey.map((octet, index) => octet ^ (signature[index] as number));
    this.serverSignature = keyed(keyed(salted, 'Server Key'), signed);
    return `${withoutProof},p=${Buffer.from(proof).toString('base64')}`;
  }

  /** Whether the server-final-message proves that the server knows the password. Throws a ScramFailure where it does not. */
  verify(serverFinal: string): void {
    const { v: proof = '' } = attributesOf(serverFinal);
    const told = Buffer.from(proof, 'base64');
    if (!this.serverSignature || told.length !== OCTETS || !timingSafeEqual(told, this.serverSignature))
      throw new ScramFailure('no proof that it knows the password');
  }
}

function keyed(key: Buffer, text: string): Buffer {
  return createHmac(HASH, key).update(text, 'utf8').digest();
}

function base64(text: string): string {
  return Buffer.from(text, 'utf8').toString('base64');
}

/** A name in which `,` and `=` are escaped (RFC 5802 §5.1). */
function saslName(name: string): string {
  return prepared(name).replaceAll('=', '=3D').replaceAll(',', '=2C');
}

/** `x=value` parted by commas; values hold no comma. */
function attributesOf(message: string): Record<string, string | undefined> {
  return Object.fromEntries(message.split(',').map((part) => [part.slice(0, 1), part.slice(2)]));
}
