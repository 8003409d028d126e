import {
  createCipheriv,
  createDecipheriv,
  createHash,
  createHmac,
  hkdfSync,
  randomBytes,
  timingSafeEqual,
} from 'node:crypto';
import { closeSync, existsSync, openSync, readFileSync, statSync, writeSync } from 'node:fs';

const VERSION = 1;
const KEY_OCTETS = 32;
const KEY_ID_OCTETS = 4;
const NONCE_OCTETS = 12;
const TAG_OCTETS = 16;

/** Where the parts of a ciphertext begin: version, key id, nonce, tag, text. */
const NONCE_AT = 1 + KEY_ID_OCTETS;
const TAG_AT = NONCE_AT + NONCE_OCTETS;
const TEXT_AT = TAG_AT + TAG_OCTETS;

/** For what a secret is sealed: the associated data, without which it does not open. */
type Owner = string;

/** Seals secrets with AES-256-GCM. The ciphertext names its key and is good for one owner only. */
export class Vault {
  /** @param keys the first seals; the others only open what was sealed before a rotation. */
  constructor(private readonly keys: readonly Buffer[]) {}

  /**
   * Reads the key file, one key in hexadecimal a line, the current one first; makes it where there is none.
   *
   * @throws Error where the file can be read by others or holds no key.
   */
  static open(path: string): Vault {
    if (!existsSync(path)) {
      const file = openSync(path, 'wx', 0o600);
      writeSync(file, `${randomBytes(KEY_OCTETS).toString('hex')}\n`);
      closeSync(file);
    }
    return Vault.existing(path);
  }

  /**
   * Reads a key file that must be there: a new key would open nothing, and find everything forged.
   *
   * @throws Error as open does, and where there is no file.
   */
  static existing(path: string): Vault {
    if (!existsSync(path)) throw new Error(`The key file ${path} is missing. Set TAMSEL_KEY_FILE to where it is.`);
    if ((statSync(path).mode & 0o077) !== 0)
      throw new Error(`The key file ${path} can be read by others; make its mode 0600.`);
    const lines = readFileSync(path, 'utf8').split('\n').filter(Boolean);
    if (lines.length === 0 || !lines.every((line) => /^[0-9a-f]{64}$/.test(line))) {
      throw new Error(`The key file ${path} must hold keys of 64 hexadecimal digits, one a line.`);
    }
    return new Vault(lines.map((line) => Buffer.from(line, 'hex')));
  }

  seal(owner: Owner, secret: string): Buffer {
    const key = this.keys[0] as Buffer;
    const nonce = randomBytes(NONCE_OCTETS);
    const cipher = createCipheriv('aes-256-gcm', key, nonce);
    cipher.setAAD(Buffer.from(owner));
    const sealed = Buffer.concat([cipher.update(secret, 'utf8'), cipher.final()]);
    return Buffer.concat([Buffer.of(VERSION), keyId(key), nonce, cipher.getAuthTag(), sealed]);
  }

  /** Undefined where the key is lost or the ciphertext was sealed for another owner: the user signs in again. */
  unseal(owner: Owner, sealed: Buffer): string | undefined {
    const id = sealed.subarray(1, NONCE_AT);
    const key = this.keys.find((known) => keyId(known).equals(id));
    if (!key || sealed[0] !== VERSION) return undefined;
    const nonce = sealed.subarray(NONCE_AT, TAG_AT);
    const tag = sealed.subarray(TAG_AT, TEXT_AT);
    const decipher = createDecipheriv('aes-256-gcm', key, nonce);
    decipher.setAAD(Buffer.from(owner));
    decipher.setAuthTag(tag);
    try {
      return Buffer.concat([decipher.update(sealed.subarray(TEXT_AT)), decipher.final()]).toString('utf8');
    } catch {
      return undefined;
    }
  }

  /** The code that shows that a text was written by who holds the key, and by which key. */
  codeOf(text: string): { keyId: Buffer; code: Buffer } {
    const key = this.keys[0] as Buffer;
    return { keyId: keyId(key), code: codeWith(key, text) };
  }

  /** Whether this is the code of a text; undefined where its key is lost. */
  isCodeOf(text: string, { keyId: id, code }: { keyId: Buffer; code: Buffer }): boolean | undefined {
    const key = this.keys.find((known) => keyId(known).equals(id));
    if (!key) return undefined;
    const right = codeWith(key, text);
    return right.length === code.length && timingSafeEqual(right, code);
  }
}

/** HMAC-SHA256 with a key of its own, derived from the one in the file (RFC 5869). */
function codeWith(key: Buffer, text: string): Buffer {
  const derived = hkdfSync('sha256', key, '', 'tamsel ledger', KEY_OCTETS);
  return createHmac('sha256', Buffer.from(derived)).update(text).digest();
}

function keyId(key: Buffer): Buffer {
  return createHash('sha256').update('tamsel key id').update(key).digest().subarray(0, KEY_ID_OCTETS);
}
