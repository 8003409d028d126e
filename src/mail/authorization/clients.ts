import * as v from 'valibot';
import { standsFor } from '../../core/authorization/hosts';

/** An address that a browser may be sent to and we may ask: HTTPS, or without on this machine (RFC 8252 §8.3). */
const Place = v.pipe(
  v.string(),
  v.url(),
  v.check((text) => isSafePlace(text), 'an address that begins with https://'),
);
const Host = v.pipe(v.string(), v.toLowerCase(), v.regex(/^(\*\.)?[a-z0-9-]+(\.[a-z0-9-]+)*$/, 'the name of a host'));

/** How this instance is registered at an authorization server (RFC 6749 §2), and for which mail hosts. */
const AuthorizationClient = v.strictObject({
  /** Names of mail servers; `*.` before one stands for all below it. */
  hosts: v.pipe(v.array(Host), v.minLength(1)),
  /** Identifier of the authorization server, below which its metadata is published (RFC 8414). */
  issuer: Place,
  clientId: v.pipe(v.string(), v.minLength(1)),
  /** Of a confidential client; one without is public. */
  clientSecret: v.optional(v.pipe(v.string(), v.minLength(1))),
  /** How the secret is shown (RFC 6749 §2.3.1): in the header, or in the body. */
  secretBy: v.optional(v.picklist(['basic', 'post']), 'basic'),
  /** Parted by blanks. Mail servers rarely say which they want; their documentation does. */
  scope: v.pipe(v.string(), v.minLength(1)),
  /** Further parameters of the authorization request, where the server wants some for lasting access. */
  parameters: v.optional(v.record(v.string(), v.string()), {}),
  /** Where no metadata is published. */
  endpoints: v.optional(
    v.strictObject({
      authorization: Place,
      token: Place,
      revocation: v.optional(Place),
      deviceAuthorization: v.optional(Place),
    }),
  ),
});

export const AuthorizationClients = v.array(AuthorizationClient);
export type AuthorizationClient = v.InferOutput<typeof AuthorizationClient>;

export function isSafePlace(text: string): boolean {
  const { protocol, hostname } = new URL(text);
  return protocol === 'https:' || (protocol === 'http:' && /^(localhost|127(\.\d+){3}|\[::1\])$/.test(hostname));
}

/** The registration that is good for a mail server; undefined where there is none. */
export function clientFor(
  host: string,
  clients: readonly AuthorizationClient[] | undefined,
): AuthorizationClient | undefined {
  return clients?.find(({ hosts }) => hosts.some((pattern) => standsFor(pattern, host)));
}
