import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { AuthorizationServer, CLIENT_ID, SCOPE } from '../stand-in/authorization/server';
import { later, PASSWORD, temporaryFolder, USER } from './harness';

/** An authorization server that knows the user of the stand-in. */
export async function startAuthorization(
  options: Parameters<typeof AuthorizationServer.start>[1] = {},
  accounts: ReadonlyMap<string, string> = new Map([[USER, PASSWORD]]),
): Promise<AuthorizationServer> {
  const server = await AuthorizationServer.start(accounts, options);
  later(() => server.stop());
  return server;
}

/** Writes the operator's file and gives its path. */
export function authorizationFile(issuer: string, more: object = {}): string {
  const path = join(temporaryFolder(), 'authorization.json');
  const client = { hosts: ['127.0.0.1', 'localhost'], issuer, clientId: CLIENT_ID, scope: SCOPE, ...more };
  writeFileSync(path, JSON.stringify([client]), { mode: 0o600 });
  return path;
}

/** A browser without a screen: follows redirects and keeps cookies by origin. */
export class Visitor {
  private readonly cookies = new Map<string, string>();

  /** Asks for a page, and for those that it leads to until one begins with `until`; that one is not asked for. */
  async open(url: string, until: string, form?: Record<string, string>): Promise<{ url: string; text: string }> {
    let [next, body] = [url, form && new URLSearchParams(form)];
    for (let turn = 0; turn < 12; turn++) {
      if (next.startsWith(until)) return { url: next, text: '' };
      const { origin } = new URL(next);
      const response = await fetch(next, {
        redirect: 'manual',
        method: body ? 'POST' : 'GET',
        headers: { cookie: [...this.cookies].map(([name, value]) => `${name}=${value}`).join('; '), origin },
        ...(body ? { body } : {}),
      });
      for (const cookie of response.headers.getSetCookie()) {
        const [, name = '', value = ''] = /^([^=]+)=([^;]*)/.exec(cookie) ?? [];
        if (value === '') this.cookies.delete(name);
        else this.cookies.set(name, value);
      }
      const location = response.headers.get('location');
      if (!location) return { url: next, text: await response.text() };
      next = new URL(location, next).href;
      body = undefined;
    }
    throw new Error(`it goes round: ${next}`);
  }

  /** Signs in at the authorization server and allows, or refuses; gives where that leads. */
  async decide(url: string, until: string, typed: Record<string, string> = {}): Promise<string> {
    const form = await this.open(url, until);
    if (form.url.startsWith(until)) return form.url;
    const after = await this.open(form.url, until, { user: USER, password: PASSWORD, choice: 'allow', ...typed });
    return after.url;
  }
}
