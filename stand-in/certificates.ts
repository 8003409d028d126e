import 'reflect-metadata';
import { webcrypto } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import * as x509 from '@peculiar/x509';

export interface Certificates {
  /** PEM. */
  authority: string;
  certificate: string;
  key: string;
}

const ALGORITHM = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' };
const DAY_MS = 86_400_000;

/** An authority of our own and a certificate for this machine and the domain of the demo, made once and kept. */
export async function certificates(directory: string | undefined): Promise<Certificates> {
  const path = directory ? join(directory, 'certificates.json') : undefined;
  if (path && existsSync(path)) return JSON.parse(readFileSync(path, 'utf8')) as Certificates;
  const made = await make();
  if (directory && path) {
    mkdirSync(directory, { recursive: true });
    writeFileSync(path, JSON.stringify(made), { mode: 0o600 });
  }
  return made;
}

async function make(): Promise<Certificates> {
  x509.cryptoProvider.set(webcrypto as Crypto);
  const generate = () => webcrypto.subtle.generateKey(ALGORITHM, true, ['sign', 'verify']) as Promise<CryptoKeyPair>;
  const authorityKeys = await generate();
  const keys = await generate();
  const validity = {
    notBefore: new Date(Date.now() - DAY_MS),
    notAfter: new Date(Date.now() + 3650 * DAY_MS),
    signingAlgorithm: ALGORITHM,
  };
  const authority = await x509.X509CertificateGenerator.createSelfSigned({
    ...validity,
    serialNumber: '01',
    name: 'CN=Saltmarsh post authority',
    keys: authorityKeys,
    extensions: [
      new x509.BasicConstraintsExtension(true, 0, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign, true),
    ],
  });
  const certificate = await x509.X509CertificateGenerator.create({
    ...validity,
    serialNumber: '02',
    subject: 'CN=localhost',
    issuer: authority.subject,
    signingKey: authorityKeys.privateKey,
    publicKey: keys.publicKey,
    extensions: [
      new x509.SubjectAlternativeNameExtension([
        { type: 'dns', value: 'localhost' },
        { type: 'dns', value: 'saltmarshlane.example' },
        { type: 'dns', value: '*.saltmarshlane.example' },
        { type: 'ip', value: '127.0.0.1' },
        { type: 'ip', value: '::1' },
      ]),
      new x509.ExtendedKeyUsageExtension(['1.3.6.1.5.5.7.3.1']),
    ],
  });
  const pkcs8 = await webcrypto.subtle.exportKey('pkcs8', keys.privateKey);
  return {
    authority: authority.toString('pem'),
    certificate: certificate.toString('pem'),
    key: x509.PemConverter.encode(pkcs8, 'PRIVATE KEY'),
  };
}
