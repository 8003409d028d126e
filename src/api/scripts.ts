import { createHash } from 'node:crypto';
import { parseCriteria } from '../core/criteria/parse';
import { criteriaToSieve } from '../core/criteria/sieve';
import { decodeModifiedUtf7 } from '../core/mailbox/modified-utf7';
import {
  BOTH_SCRIPT,
  folderNames,
  hasMarkedPart,
  includedOwn,
  includingScript,
  RULES_SCRIPT,
  rulesScript,
  type SieveRule,
  withMarkedPart,
} from '../core/sieve/script';
import { SieveSyntaxError } from '../core/sieve/syntax';
import { credentialFor, SignInNeeded } from '../jobs/sign-in';
import { discoverSieve } from '../mail/discovery/sieve';
import { ManageSieve } from '../mail/managesieve/client';
import { MailProblem } from '../mail/problem';
import type { Account } from '../store/access/accounts';
import type { Queryable } from '../store/database';
import type { StoredFolder } from '../store/index/folders';
import { forgetBefore, keepBefore, type Rule, scriptBefore } from '../store/plan/rules';
import type { Environment } from './environment';
import { conflict } from './problem';

/** The scripts of an account as they are on its server. */
export interface Scripts {
  active: string | null;
  /** What stands in the active one; '' where there is none. */
  script: string;
  /** The person's own script, which ours run before; null where they have none. */
  own: string | null;
  /** What stands in it. */
  ownScript: string;
  /** Whether the server can include one script in another (RFC 6609); else ours is a marked part of theirs. */
  includes: boolean;
  /** Whether our rules are run. */
  running: boolean;
  /** Changes with whatever another program changes. */
  mark: string;
}

/** Does something with the scripts of an account, over a connection of its own. @throws Problem, with what the server says. */
export async function withScripts<T>(
  { database, vault, outbound }: Environment,
  account: Account,
  act: (server: ManageSieve, scripts: Scripts) => Promise<T>,
): Promise<T> {
  let server: ManageSieve | undefined;
  try {
    const credential = await credentialFor({ database, vault, outbound }, account);
    const place = await discoverSieve(account.user, account.host, outbound);
    server = await ManageSieve.connect(place, account.user, credential, outbound);
    return await act(server, await scriptsOf(server));
  } catch (error) {
    if (error instanceof SignInNeeded)
      throw conflict('sign-in-needed', 'Tamsel can’t sign in to your mail server. Sign in again.');
    if (error instanceof MailProblem) throw conflict(`rules-${error.kind}`, error.message);
    throw error;
  } finally {
    await server?.close();
  }
}

/** The scripts as they are now. */
export async function scriptsOf(server: ManageSieve): Promise<Scripts> {
  const active = (await server.scripts()).find((script) => script.active)?.name ?? null;
  const script = active === null ? '' : await server.script(active);
  const includes = server.extensions.includes('include') && server.extensions.includes('fileinto');
  const included = active === BOTH_SCRIPT ? includedOwn(script) : undefined;
  if (active === BOTH_SCRIPT && included === undefined)
    throw conflict(
      'script-changed',
      `Another program has changed the script ${BOTH_SCRIPT}, which is Tamsel’s. Delete it there first.`,
    );
  const own = active === RULES_SCRIPT ? null : included === undefined ? active : included;
  const ownScript = own === active ? script : own === null ? '' : await ownScriptOf(server, own);
  const running = included !== undefined || active === RULES_SCRIPT || hasMarkedPart(script);
  const mark = createHash('sha256')
    .update(JSON.stringify([active, script, own, ownScript]))
    .digest('hex');
  return { active, script, own, ownScript, includes, running, mark };
}

/** What stands in the person's own script; '' where it is there no more. */
async function ownScriptOf(server: ManageSieve, own: string): Promise<string> {
  const isThere = (await server.scripts()).some(({ name }) => name === own);
  return isThere ? server.script(own) : '';
}

/** Removes the scripts that are ours, none of which may be active. */
async function removeOurs(server: ManageSieve): Promise<void> {
  const there = new Set((await server.scripts()).map(({ name }) => name));
  for (const name of [BOTH_SCRIPT, RULES_SCRIPT]) if (there.has(name)) await server.remove(name);
}

/** Rules as a server runs them. A folder that is gone, and criteria that no rule can say, are an error: never left out silently. */
export function compiled(
  server: Pick<ManageSieve, 'extensions' | 'implementation'>,
  rules: readonly Pick<Rule, 'label' | 'where' | 'folder'>[],
  folders: readonly StoredFolder[],
): SieveRule[] {
  return rules.map(({ label, where, folder: path }) => {
    const parsed = parseCriteria(where);
    const test = parsed.ok ? criteriaToSieve(parsed.criteria) : undefined;
    const folder = folders.find((one) => one.path === path && !one.repeats);
    if (!test?.ok) throw conflict('no-rule', `The rule “${label}” can’t be a rule of the server any more. Delete it.`);
    if (!folder) throw conflict('no-folder', `The folder ${path} of the rule “${label}” is gone. Delete the rule.`);
    const name = decodeModifiedUtf7(folder.serverName);
    if (name === undefined) throw conflict('no-folder', `The name of the folder ${path} can’t be written in a rule.`);
    return { label, test: test.test, folders: folderNames(name, server) };
  });
}

/**
 * Puts our rules on the server: each script is checked there before it is put (RFC 5804 §2.12). The person's own script is not
 * changed where the server can include it; else our part of it is replaced whole.
 */
export async function putRules(
  db: Queryable,
  account: number,
  server: ManageSieve,
  scripts: Scripts,
  rules: readonly SieveRule[],
): Promise<void> {
  const { own, ownScript, includes, active } = scripts;
  if (rules.length === 0) return takeRulesOff(db, account, server, scripts);
  // What was there before ours was: it can be brought back.
  if (!scripts.running)
    await keepBefore(db, account, { name: active, script: active === null ? null : scripts.script });
  if (!includes) {
    const name = own ?? RULES_SCRIPT;
    const script = own === null ? rulesScript(rules) : marked(ownScript, rules);
    await server.check(script);
    await server.put(name, script);
    if (own === null) await server.activate(name);
    return;
  }
  const script = rulesScript(rules);
  await server.check(script);
  await server.put(RULES_SCRIPT, script);
  const both = includingScript(own);
  await server.check(both);
  await server.put(BOTH_SCRIPT, both);
  await server.activate(BOTH_SCRIPT);
}

async function takeRulesOff(db: Queryable, account: number, server: ManageSieve, scripts: Scripts): Promise<void> {
  if (scripts.active === BOTH_SCRIPT || scripts.active === RULES_SCRIPT) await server.activate(scripts.own ?? '');
  else if (scripts.running && scripts.active !== null) {
    const script = marked(scripts.script, []);
    await server.check(script);
    await server.put(scripts.active, script);
  }
  await removeOurs(server);
  await forgetBefore(db, account);
}

/** Brings back what was active before our rules were, as it stood there. */
export async function bringBack(db: Queryable, account: number, server: ManageSieve): Promise<void> {
  const before = await scriptBefore(db, account);
  if (!before) throw conflict('nothing-to-do', 'There is no script of yours that Tamsel has kept.');
  if (before.name !== null && before.script !== null) {
    const there = (await server.scripts()).some(({ name }) => name === before.name);
    const isSame = there && (await server.script(before.name)) === before.script;
    if (!isSame) {
      await server.check(before.script);
      await server.put(before.name, before.script);
    }
  }
  await server.activate(before.name ?? '');
  await removeOurs(server);
  await forgetBefore(db, account);
}

function marked(script: string, rules: readonly SieveRule[]): string {
  try {
    return withMarkedPart(script, rules);
  } catch (error) {
    if (error instanceof SieveSyntaxError)
      throw conflict('unreadable-script', 'Your own script can’t be read by Tamsel, so it stays as it is.');
    throw error;
  }
}
