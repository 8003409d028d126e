import { readFileSync, statSync } from 'node:fs';
import { rootCertificates } from 'node:tls';
import * as v from 'valibot';
import { AuthorizationClients } from './authorization/clients';
import { onlyServers } from './only-servers';

const ListedSubmission = v.strictObject({
  host: v.pipe(v.string(), v.minLength(1)),
  port: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(65_535)),
  /** `none` on this machine alone. */
  security: v.picklist(['tls', 'starttls', 'none']),
  /** Whether one signs in as to the mailbox. */
  signIn: v.optional(v.boolean(), true),
});
const ListedServer = v.strictObject({
  host: v.pipe(v.string(), v.minLength(1)),
  port: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(65_535)),
  security: v.picklist(['tls', 'starttls']),
  /** What the user name is: the whole address, or what stands before the @. */
  user: v.optional(v.picklist(['address', 'local']), 'address'),
  /** Where rules for mail to come are (RFC 5804); without it, at the mail server's name. */
  sieve: v.optional(
    v.strictObject({
      host: v.pipe(v.string(), v.minLength(1)),
      port: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(65_535)),
      security: v.picklist(['starttls', 'none']),
    }),
  ),
  /** The server that takes mail of this domain's addresses for delivery (RFC 6409). */
  submission: v.optional(ListedSubmission),
  /** The address of the file space that belongs to a mailbox (RFC 4918); `{user}` in it is the user name. */
  files: v.optional(v.pipe(v.string(), v.regex(/^https?:\/\//))),
});
const ServerList = v.record(v.string(), ListedServer);

/** How this instance reaches out; the same for every process of it. */
export interface OutboundConfig {
  allowPrivate: boolean;
  /** A file of certificates in PEM that are trusted besides the usual ones. */
  caFile: string | undefined;
  /** Seconds that a mail server may take for a plain command; for longer ones a multiple of it. */
  commandSeconds?: number | undefined;
  /** Servers of DNS, `address:port`, in place of the system's. */
  dns?: readonly string[] | undefined;
  /** Mail servers that may be used; undefined where all may. */
  only?: ReturnType<typeof onlyServers>;
  /** The operator's own list of mail servers, by the domain of the address. */
  servers?: v.InferOutput<typeof ServerList> | undefined;
  /** Where this instance is registered to ask for authorizations. */
  authorization?: v.InferOutput<typeof AuthorizationClients> | undefined;
}

/**
 * Reads it from the environment variables that docs/operating.md lists.
 *
 * @throws Error where a file can't be read, or one with secrets can be read by others.
 */
export function outboundConfigFrom(variables: NodeJS.ProcessEnv): OutboundConfig {
  return {
    allowPrivate: variables.TAMSEL_ALLOW_PRIVATE === '1',
    caFile: variables.TAMSEL_CA_FILE || undefined,
    commandSeconds: Number(variables.TAMSEL_COMMAND_SECONDS) || undefined,
    only: onlyServers(variables.TAMSEL_ONLY_SERVERS),
    dns: variables.TAMSEL_DNS?.split(',').filter(Boolean),
    servers: variables.TAMSEL_SERVERS_FILE ? read(variables.TAMSEL_SERVERS_FILE, ServerList) : undefined,
    authorization: variables.TAMSEL_AUTHORIZATION_FILE ? clientsIn(variables.TAMSEL_AUTHORIZATION_FILE) : undefined,
  };
}

function clientsIn(path: string): v.InferOutput<typeof AuthorizationClients> {
  const clients = read(path, AuthorizationClients);
  if (clients.some(({ clientSecret }) => clientSecret) && (statSync(path).mode & 0o077) !== 0)
    throw new Error(`The file ${path} holds a secret and can be read by others; make its mode 0600.`);
  return clients;
}

function read<S extends v.GenericSchema>(path: string, schema: S): v.InferOutput<S> {
  let text: unknown;
  try {
    text = JSON.parse(readFileSync(path, 'utf8'));
  } catch (error) {
    throw new Error(`The file ${path} can’t be read as JSON: ${(error as Error).message}.`);
  }
  const parsed = v.safeParse(schema, text);
  if (parsed.success) return parsed.output;
  const [issue] = parsed.issues;
  throw new Error(`The file ${path} can’t be read at ${v.getDotPath(issue) ?? 'its top'}: ${issue.message}`);
}

/** What a TLS connection takes besides its defaults: the usual authorities and the operator's, where there is one. */
export function trustOf({ caFile }: Pick<OutboundConfig, 'caFile'>): { ca?: string[] } {
  return caFile ? { ca: [...rootCertificates, readFileSync(caFile, 'utf8')] } : {};
}
