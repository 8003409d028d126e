import * as oauth from 'oauth4webapi';
import { renewalOf, type Tokens } from '../../core/authorization/tokens';
import type { OutboundConfig } from '../outbound-config';
import { MailProblem } from '../problem';
import { askWeb } from '../web';
import { type AuthorizationClient, isSafePlace } from './clients';

/** An authorization request that a browser was sent away with, and has to come back to. */
export interface PageRequest {
  state: string;
  /** PKCE (RFC 7636 §4.1). */
  verifier: string;
  redirectUri: string;
}

/** A request of the device grant (RFC 8628 §3.2). */
export interface DeviceRequest {
  deviceCode: string;
  /** What a person types at `place`. */
  userCode: string;
  place: string;
  /** Seconds between two questions. */
  interval: number;
  /** Seconds. */
  expiresIn: number;
}

/**
 * The grants of OAuth 2.0 for one registration (RFC 6749, and current practice RFC 9700), by a client library. Everything
 * throws a MailProblem: `authorization-refused` where the server or the person says no, `authorization-unreachable` where the
 * server can't be used at the moment.
 */
export class Grants {
  private server: Promise<oauth.AuthorizationServer> | undefined;
  private readonly asClient: oauth.Client;
  private readonly proof: oauth.ClientAuth;
  private readonly options;

  constructor(
    private readonly client: AuthorizationClient,
    outbound: OutboundConfig,
  ) {
    this.asClient = { client_id: client.clientId };
    const { clientSecret, secretBy } = client;
    if (clientSecret === undefined) this.proof = oauth.None();
    else this.proof = (secretBy === 'post' ? oauth.ClientSecretPost : oauth.ClientSecretBasic)(clientSecret);
    this.options = {
      [oauth.customFetch]: async (
        url: string,
        { method, headers, body }: { method: string; headers: Record<string, string>; body?: unknown },
      ) => {
        const response = await askWeb(new URL(url), { method, headers, body: body ? `${body}` : undefined }, outbound);
        // Trouble of the server's own, whatever stands in it, is no answer to what was asked (RFC 9110 §15.6).
        if (response.status >= 500 || response.status === 429) throw new Error(`status ${response.status}`);
        return response;
      },
      // Which addresses may be asked without is askWeb's to say.
      [oauth.allowInsecureRequests]: true,
    };
  }

  /** Begins an authorization: where the browser is to be sent, and what is kept until it comes back. */
  async beginPage(redirectUri: string, user: string): Promise<{ url: string; request: PageRequest }> {
    const { authorization_endpoint: place } = await this.metadata();
    if (place === undefined || !isSafePlace(place)) throw refused(this.client, 'it names no page to authorize at');
    const request = { state: oauth.generateRandomState(), verifier: oauth.generateRandomCodeVerifier(), redirectUri };
    const url = new URL(place);
    const parameters = {
      ...this.client.parameters,
      response_type: 'code',
      client_id: this.client.clientId,
      redirect_uri: redirectUri,
      scope: this.client.scope,
      state: request.state,
      code_challenge: await oauth.calculatePKCECodeChallenge(request.verifier),
      code_challenge_method: 'S256',
      login_hint: user,
    };
    for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
    return { url: url.href, request };
  }

  /** @param returned the parameters with which the browser came back. */
  async finishPage(request: PageRequest, returned: URLSearchParams): Promise<Tokens> {
    return this.asked(async (server) => {
      const checked = oauth.validateAuthResponse(server, this.asClient, returned, request.state);
      const { redirectUri, verifier } = request;
      const response = await oauth.authorizationCodeGrantRequest(
        server,
        this.asClient,
        this.proof,
        checked,
        redirectUri,
        verifier,
        this.options,
      );
      return tokensOf(await oauth.processAuthorizationCodeResponse(server, this.asClient, response));
    });
  }

  async beginDevice(): Promise<DeviceRequest> {
    return this.asked(async (server) => {
      if (server.device_authorization_endpoint === undefined)
        throw refused(this.client, 'it gives no codes for other devices');
      const scope = { scope: this.client.scope };
      const response = await oauth.deviceAuthorizationRequest(server, this.asClient, this.proof, scope, this.options);
      const given = await oauth.processDeviceAuthorizationResponse(server, this.asClient, response);
      if (!isSafePlace(given.verification_uri)) throw refused(this.client, 'it names no page that can be opened');
      return {
        deviceCode: given.device_code,
        userCode: given.user_code,
        place: given.verification_uri,
        interval: given.interval ?? 5,
        expiresIn: given.expires_in,
      };
    });
  }

  /** Asks whether the person has typed the code; `waiting` and `slower` (RFC 8628 §3.5) where not yet. */
  async pollDevice(deviceCode: string): Promise<Tokens | 'waiting' | 'slower'> {
    return this.asked(async (server) => {
      try {
        const response = await oauth.deviceCodeGrantRequest(
          server,
          this.asClient,
          this.proof,
          deviceCode,
          this.options,
        );
        return tokensOf(await oauth.processDeviceCodeResponse(server, this.asClient, response));
      } catch (error) {
        const code = error instanceof oauth.ResponseBodyError ? error.error : '';
        if (code === 'authorization_pending') return 'waiting';
        if (code === 'slow_down') return 'slower';
        throw error;
      }
    });
  }

  /**
   * Asks for the next access token. A server may give a new refresh token, after which the old one is good no more. Only the
   * server's own no is a refusal: what else answers in its place, as networks do that want a sign-in of theirs, passes.
   */
  async renew(refresh: string): Promise<Tokens> {
    return this.asked(async (server) => {
      const response = await oauth.refreshTokenGrantRequest(server, this.asClient, this.proof, refresh, this.options);
      const answer = await oauth
        .processRefreshTokenResponse(server, this.asClient, response)
        .catch((error: unknown) => {
          throw isNoAnswer(error) ? unreachable(this.client, error) : error;
        });
      const tokens = tokensOf(answer);
      return { ...tokens, refresh: tokens.refresh ?? refresh };
    });
  }

  /** Takes tokens back (RFC 7009), where the server knows how. */
  async revoke({ access, refresh }: Tokens): Promise<void> {
    await this.asked(async (server) => {
      if (server.revocation_endpoint === undefined) return;
      // The access tokens of a refresh token go with it (§2.1).
      const response = await oauth.revocationRequest(
        server,
        this.asClient,
        this.proof,
        refresh ?? access,
        this.options,
      );
      await oauth.processRevocationResponse(response);
    });
  }

  private metadata(): Promise<oauth.AuthorizationServer> {
    this.server ??= this.read().catch((error: unknown) => {
      this.server = undefined;
      throw unreachable(this.client, error);
    });
    return this.server;
  }

  /** RFC 8414; else what the same server may publish under the older name. */
  private async read(): Promise<oauth.AuthorizationServer> {
    const { issuer, endpoints } = this.client;
    if (endpoints)
      return {
        issuer,
        authorization_endpoint: endpoints.authorization,
        token_endpoint: endpoints.token,
        ...(endpoints.revocation ? { revocation_endpoint: endpoints.revocation } : {}),
        ...(endpoints.deviceAuthorization ? { device_authorization_endpoint: endpoints.deviceAuthorization } : {}),
      };
    const place = new URL(issuer);
    let response = await oauth.discoveryRequest(place, { algorithm: 'oauth2', ...this.options });
    if (response.status !== 200) response = await oauth.discoveryRequest(place, { algorithm: 'oidc', ...this.options });
    return oauth.processDiscoveryResponse(place, response);
  }

  private async asked<T>(act: (server: oauth.AuthorizationServer) => Promise<T>): Promise<T> {
    const server = await this.metadata();
    try {
      return await act(server);
    } catch (error) {
      throw error instanceof MailProblem ? error : problemOf(error, this.client);
    }
  }
}

function tokensOf(answer: oauth.TokenEndpointResponse): Tokens {
  const { access_token: access, refresh_token: refresh, expires_in: seconds } = answer;
  return { access, refresh, renewAt: renewalOf(Date.now(), seconds) };
}

/** Codes that say that the server is in trouble, and nothing about who asks (RFC 6749 §4.1.2.1). */
const PASSING = new Set(['server_error', 'temporarily_unavailable']);

const NOT_AN_ANSWER = [
  oauth.OperationProcessingError,
  oauth.UnsupportedOperationError,
  oauth.WWWAuthenticateChallengeError,
];

function isNoAnswer(error: unknown): boolean {
  return NOT_AN_ANSWER.some((kind) => error instanceof kind);
}

function problemOf(error: unknown, client: AuthorizationClient): MailProblem {
  if (error instanceof oauth.AuthorizationResponseError || error instanceof oauth.ResponseBodyError) {
    const { error: code, error_description: said } = error;
    if (PASSING.has(code)) return unreachable(client, error);
    return refused(client, said ? `it said: “${said}”` : `it said “${code}”`, error);
  }
  // What it answered is not what the standards let it answer, or not to our request.
  if (isNoAnswer(error)) return refused(client, 'its answer is not one to this request', error);
  return unreachable(client, error);
}

function refused(client: AuthorizationClient, why: string, cause?: unknown): MailProblem {
  return new MailProblem('authorization-refused', `${nameOf(client)} gave no authorization: ${why}.`, { cause });
}

function unreachable(client: AuthorizationClient, cause: unknown): MailProblem {
  if (cause instanceof MailProblem && cause.kind !== 'no-such-host') return cause;
  return new MailProblem('authorization-unreachable', `${nameOf(client)} can’t be reached at the moment.`, { cause });
}

function nameOf({ issuer }: AuthorizationClient): string {
  return new URL(issuer).host;
}
