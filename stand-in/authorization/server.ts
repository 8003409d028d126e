import { generateKeyPairSync, randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTlsServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import Provider from 'oidc-provider';
import { DEVICE_DONE, devicePage, failedPage, signInPage } from './pages';
import { Store } from './store';

/** Whose token it is, and until when it is good, milliseconds since 1970. */
export interface TokenInfo {
  user: string;
  endsAt: number;
}

/** Registered without a secret, as programs on people's own machines are (RFC 8252). */
export const CLIENT_ID = 'tamsel';
/** Registered with one, by how it is shown (RFC 6749 §2.3.1). */
export const SECRET_CLIENTS = {
  basic: { id: 'tamsel-basic', secret: 'of the instance' },
  post: { id: 'tamsel-post', secret: 'of another instance' },
};
/** Who may look into tokens (RFC 7662): the mail host itself. */
export const MAIL_HOST = { id: 'mail-host', secret: 'of-the-host' };
export const SCOPE = 'mail';

const REFRESH_SECONDS = 30 * 86_400;

/** How long an access token lives. */
const ACCESS_SECONDS = 3_600;

/**
 * An authorization server on loopback, by a general-purpose library that knows nothing of its clients: authorization code
 * with PKCE, the device grant, refresh tokens that change with every use, revocation, introspection, metadata.
 */
export class AuthorizationServer {
  /** Requests to its token endpoint, by grant and outcome. */
  readonly grants: string[] = [];
  /** Answers 503 to everything, as a server that is being mended. */
  isDown = false;
  private readonly store = new Store();
  private provider!: Provider;

  private constructor(
    private readonly server: Server,
    private readonly accounts: ReadonlyMap<string, string>,
    readonly issuer: string,
  ) {}

  /** @param accounts passwords by name. */
  static async start(
    accounts: ReadonlyMap<string, string>,
    { tls, port = 0 }: { tls?: { key: string; cert: string }; port?: number } = {},
  ): Promise<AuthorizationServer> {
    const server = tls ? createTlsServer(tls) : createServer();
    await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
    const issuer = `${tls ? 'https' : 'http'}://localhost:${(server.address() as AddressInfo).port}`;
    const started = new AuthorizationServer(server, accounts, issuer);
    started.provider = started.made();
    const answer = started.provider.callback();
    server.on('request', (request: IncomingMessage, response: ServerResponse) => {
      if (started.isDown) response.writeHead(503).end();
      else if (request.url?.startsWith('/interaction/')) void started.interact(request, response);
      else {
        // RFC 8414 §3.1; the library publishes the same under the name that came before.
        if (request.url === '/.well-known/oauth-authorization-server')
          request.url = '/.well-known/openid-configuration';
        answer(request, response);
      }
    });
    return started;
  }

  /** Undefined where the token is none that is good. */
  async tokenInfo(token: string): Promise<TokenInfo | undefined> {
    const found = await this.provider.AccessToken.find(token);
    if (!found?.isValid || !found.scope?.split(' ').includes(SCOPE)) return undefined;
    return { user: found.accountId, endsAt: (found.exp as number) * 1000 };
  }

  /** Has every access token run out; those who hold a refresh token get another. */
  endAccessTokens(): void {
    this.store.expire('AccessToken');
  }

  /** Takes every authorization back. */
  withdrawAll(): void {
    this.store.clear();
  }

  /** Refresh tokens that are kept, used up or not. */
  get refreshTokens(): number {
    return this.store.count('RefreshToken');
  }

  stop(): Promise<void> {
    this.server.closeAllConnections();
    return new Promise((resolve) => this.server.close(() => resolve()));
  }

  private made(): Provider {
    const grantTypes = ['authorization_code', 'refresh_token', 'urn:ietf:params:oauth:grant-type:device_code'];
    const registered = {
      // Ports of loopback are not told apart for such programs (RFC 8252 §7.3).
      application_type: 'native' as const,
      redirect_uris: ['http://127.0.0.1/authorized', 'http://localhost/authorized'],
      grant_types: grantTypes,
      response_types: ['code' as const],
    };
    const provider = new Provider(this.issuer, {
      adapter: (kind: string) => this.store.adapter(kind),
      clients: [
        { ...registered, client_id: CLIENT_ID, token_endpoint_auth_method: 'none' },
        ...(['basic', 'post'] as const).map((by) => ({
          ...registered,
          client_id: SECRET_CLIENTS[by].id,
          client_secret: SECRET_CLIENTS[by].secret,
          token_endpoint_auth_method: `client_secret_${by}` as const,
        })),
        {
          client_id: MAIL_HOST.id,
          client_secret: MAIL_HOST.secret,
          redirect_uris: [],
          grant_types: [],
          response_types: [],
        },
      ],
      scopes: [SCOPE],
      clientDefaults: { id_token_signed_response_alg: 'ES256' },
      jwks: { keys: [{ ...generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }) }] },
      cookies: { keys: [randomBytes(16).toString('hex')] },
      pkce: { required: () => true, methods: ['S256'] },
      rotateRefreshToken: true,
      issueRefreshToken: async (_context, client) => client.grantTypeAllowed('refresh_token'),
      findAccount: async (_context, accountId) => ({ accountId, claims: async () => ({ sub: accountId }) }),
      interactions: { url: (_context, { uid }) => `/interaction/${uid}` },
      renderError: (context, { error, error_description: said }) => {
        context.type = 'html';
        context.body = failedPage(said ?? error);
      },
      ttl: {
        AccessToken: ACCESS_SECONDS,
        AuthorizationCode: 60,
        DeviceCode: 600,
        Grant: REFRESH_SECONDS,
        Interaction: 600,
        RefreshToken: REFRESH_SECONDS,
        Session: 600,
      },
      features: {
        devInteractions: { enabled: false },
        userinfo: { enabled: false },
        rpInitiatedLogout: { enabled: false },
        revocation: { enabled: true },
        introspection: { enabled: true, allowedPolicy: (_context, client) => client.clientId === MAIL_HOST.id },
        deviceFlow: {
          enabled: true,
          userCodeInputSource: async (context, form) => {
            context.body = devicePage(form, false);
          },
          userCodeConfirmSource: async (context, form, _client, _device, code) => {
            context.body = devicePage(form, true, code);
          },
          successSource: async (context) => {
            context.body = DEVICE_DONE;
          },
        },
      },
    });
    provider.on('grant.success', (context) => this.grants.push(`${context.oidc.params?.grant_type} given`));
    provider.on('grant.error', (context, error) =>
      this.grants.push(`${context.oidc.params?.grant_type} ${error.message}`),
    );
    return provider;
  }

  /** The page on which a person signs in and decides. */
  private async interact(request: IncomingMessage, response: ServerResponse): Promise<void> {
    try {
      const { params, grantId } = await this.provider.interactionDetails(request, response);
      const show = (isWrong: boolean) =>
        response
          .writeHead(200, { 'content-type': 'text/html; charset=utf-8' })
          .end(signInPage(`${params.login_hint ?? ''}`, isWrong));
      if (request.method !== 'POST') {
        show(false);
        return;
      }
      const typed = new URLSearchParams(await bodyOf(request));
      const user = typed.get('user') ?? '';
      if (typed.get('choice') === 'refuse') {
        const refused = { error: 'access_denied', error_description: 'The person refused' };
        await this.provider.interactionFinished(request, response, refused);
        return;
      }
      if (this.accounts.get(user) !== typed.get('password')) {
        show(true);
        return;
      }
      const known = grantId ? await this.provider.Grant.find(grantId) : undefined;
      const grant = known ?? new this.provider.Grant({ accountId: user, clientId: `${params.client_id}` });
      grant.addOIDCScope(SCOPE);
      const result = { login: { accountId: user }, consent: { grantId: await grant.save() } };
      await this.provider.interactionFinished(request, response, result);
    } catch (error) {
      response.writeHead(400, { 'content-type': 'text/html; charset=utf-8' }).end(failedPage(String(error)));
    }
  }
}

async function bodyOf(request: IncomingMessage): Promise<string> {
  let text = '';
  for await (const chunk of request) text += chunk;
  return text;
}
