import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import { printCriteria } from '../../core/criteria/print';
import { criteriaToSieve, type SieveRefusal } from '../../core/criteria/sieve';
import type { Criteria } from '../../core/criteria/tree';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { decodeModifiedUtf7 } from '../../core/mailbox/modified-utf7';
import { lostBy } from '../../core/sieve/loses';
import { YEAR_MS } from '../../jobs/unsubscribe/read-ways';
import type { ManageSieve } from '../../mail/managesieve/client';
import type { Account } from '../../store/access/accounts';
import { type Queryable, theRow, transaction } from '../../store/database';
import { foldersOf, type StoredFolder } from '../../store/index/folders';
import { select } from '../../store/index/selection';
import * as store from '../../store/plan/rules';
import { criteriaFrom } from '../criteria';
import type { Environment } from '../environment';
import { onServer } from '../on-server';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';
import { bringBack, compiled, putRules, type Scripts, scriptsOf, withScripts } from '../scripts';

const MOST_RULES = 200;
const EXAMPLES = 20;

const WHY: Record<SieveRefusal, string> = {
  ages: 'It changes while mail ages or comes in, and a rule sees a message on its arrival only. Make a standing lot of it.',
  day: 'A day in the past says nothing of mail to come.',
  later: 'A message that arrives has no flag, keyword or folder yet.',
  inexpressible: 'Rules of a mail server can’t ask this, or not so that it means the same.',
  letters: 'Rules of a mail server compare letters beyond ASCII octet by octet.',
};

async function shown(db: Queryable, account: Account, scripts: Scripts): Promise<v.InferOutput<typeof s.Rules>> {
  const [rules, before, folders] = await Promise.all([
    store.rulesOf(db, account.id),
    store.scriptBefore(db, account.id),
    foldersOf(db, account.id),
  ]);
  const trash = folders
    .filter(({ role }) => role === 'trash')
    .flatMap(({ serverName, path }) => [decodeModifiedUtf7(serverName) ?? serverName, path]);
  return {
    rules: rules.map(({ madeAt, ...rule }) => ({
      ...rule,
      isFolderGone: !folders.some(({ path, repeats }) => path === rule.folder && !repeats),
      madeAt: madeAt.toISOString(),
    })),
    running: scripts.running,
    mark: scripts.mark,
    own: scripts.own,
    includes: scripts.includes,
    loses:
      scripts.own === null ? [] : (lostBy(scripts.ownScript, trash)?.map(({ what, when }) => ({ what, when })) ?? null),
    keptAt: before?.keptAt.toISOString() ?? null,
  };
}

/** What a rule would decide, or a problem that names the part that no rule can say. */
function ruleOf(where: string): { criteria: Criteria; test: string; text: string } {
  const criteria = criteriaFrom(where);
  const compiledTest = criteriaToSieve(criteria);
  if (!compiledTest.ok)
    throw invalid(`“${compiledTest.part}” can’t be a rule. ${WHY[compiledTest.reason]}`, [
      { field: 'where', expected: 'criteria of size, from, to, domain, list and subject' },
    ]);
  if (criteria.kind === 'everything')
    throw invalid('A rule for every message would file everything that comes in.', [
      { field: 'where', expected: 'criteria' },
    ]);
  return { criteria, test: compiledTest.test, text: printCriteria(criteria) };
}

function folderNamed(folders: readonly StoredFolder[], path: string): StoredFolder {
  const folder = folders.find((one) => one.path === path && !one.repeats && one.selectable);
  if (!folder) throw invalid('There is no such folder.', [{ field: 'folder', expected: 'the path of a folder' }]);
  return folder;
}

/** Does something with the scripts as they were seen; another program's change in between is a conflict. */
async function changed(
  environment: Environment,
  account: Account,
  expect: string,
  act: (client: Queryable, server: ManageSieve, scripts: Scripts) => Promise<void>,
): Promise<v.InferOutput<typeof s.Rules>> {
  return withScripts(environment, account, async (server, scripts) => {
    if (scripts.mark !== expect)
      throw conflict(
        'script-changed',
        'Another program has changed the rules on the server meanwhile. Look at them again; nothing was written over.',
      );
    await transaction(environment.database, async (client) => {
      // One change at a time.
      await client.query('select 1 from account where id = $1 for no key update', [account.id]);
      await act(client, server, scripts);
    });
    return shown(environment.database, account, await scriptsOf(server));
  });
}

async function put(client: Queryable, account: Account, server: ManageSieve, scripts: Scripts): Promise<void> {
  const folders = await foldersOf(client, account.id);
  const rules = await store.rulesOf(client, account.id);
  await putRules(client, account.id, server, scripts, compiled(server, rules, folders));
}

/**
 * Asks the mail server whether it has folders, by the names that it knows them by. Asked before anything is locked.
 *
 * @throws Problem `no-folder` if one of them does not exist.
 */
async function requireFolders(environment: Environment, account: Account, paths: readonly string[]): Promise<void> {
  const folders = await foldersOf(environment.database, account.id);
  const wanted = folders.filter(({ path, repeats }) => !repeats && paths.includes(path));
  if (wanted.length === 0) return;
  await onServer(environment, account, 'The folder could not be looked for', async (server) => {
    for (const { serverName, path } of wanted)
      if ((await server.status(serverName)) === null)
        throw conflict('no-folder', `The mail server knows no folder ${path}, so a rule can’t file into it.`);
  });
}

export const getRules = route({
  method: 'GET',
  path: '/accounts/{account}/rules',
  summary:
    'Returns the rules for mail to come, and the scripts as the mail server has them (Sieve over ManageSieve, RFC 5804): asked of it each time.',
  response: s.Rules,
  handle: ({ environment, account }) =>
    withScripts(environment, account, (_, scripts) => shown(environment.database, account, scripts)),
});

export const tryRule = route({
  method: 'POST',
  path: '/accounts/{account}/rules/try',
  summary:
    'Tries a rule on the mail of the last year, by our own reading of its criteria: how many messages it would have filed, and the newest of them. Nothing changes.',
  body: v.object({ where: v.pipe(v.string(), v.maxLength(10_000)) }),
  response: s.RuleTrial,
  async handle({ environment: { database }, account, body }) {
    const { criteria, test } = ruleOf(body.where);
    const now = clock.now();
    const { sql, values } = await select(database, account, criteria, 'all', now, false);
    const found = await theRow<{ messages: number; bytes: number; seen: number; examples: number[] }>(
      database,
      `with filed as materialized (
         select p.id, p.size, p.flags, p.received ${sql} and p.received >= $${values.length + 1})
       select count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes,
         (count(*) filter (where flags & ${FLAG_BITS.seen} <> 0))::int as seen,
         coalesce((select array_agg(id) from (select id from filed order by received desc, id desc limit ${EXAMPLES}) newest), '{}')::int[] as examples
       from filed`,
      [...values, new Date(now.getTime() - YEAR_MS)],
    );
    const { messages, bytes, seen, examples } = found;
    return { test, past: { messages, bytes }, seen, examples };
  },
});

const Expect = v.pipe(v.string(), v.regex(/^[0-9a-f]{64}$/, 'the mark of the rules as they were seen'));

export const addRule = route({
  method: 'POST',
  path: '/accounts/{account}/rules',
  summary:
    'Adds a rule: what matches goes into a folder when it comes in, never lost and never refused. The server checks the script before it takes it. `expect` is the mark of the rules as they were seen.',
  body: v.object({
    label: s.Label,
    where: v.pipe(v.string(), v.maxLength(10_000)),
    folder: v.string(),
    expect: Expect,
  }),
  status: 201,
  response: s.Rules,
  async handle({ environment, account, body }) {
    const { text } = ruleOf(body.where);
    await requireFolders(environment, account, [body.folder]);
    return changed(environment, account, body.expect, async (client, server, scripts) => {
      folderNamed(await foldersOf(client, account.id), body.folder);
      if ((await store.rulesOf(client, account.id)).length >= MOST_RULES)
        throw conflict('too-many', `An account has at most ${MOST_RULES} rules. Delete one that is not needed.`);
      await store.addRule(client, account.id, { label: body.label, where: text, folder: body.folder });
      await put(client, account, server, scripts);
    });
  },
});

export const runRules = route({
  method: 'POST',
  path: '/accounts/{account}/rules/run',
  summary:
    'Has the rules run again, before the script that is active now, where another program has made another script the active one.',
  body: v.object({ expect: Expect }),
  response: s.Rules,
  async handle({ environment, account, body }) {
    const rules = await store.rulesOf(environment.database, account.id);
    await requireFolders(
      environment,
      account,
      rules.map(({ folder }) => folder),
    );
    return changed(environment, account, body.expect, (client, server, scripts) =>
      put(client, account, server, scripts),
    );
  },
});

export const restoreScript = route({
  method: 'POST',
  path: '/accounts/{account}/rules/restore',
  summary: 'Deletes all rules, and brings back the script that was active before them, as it stood there.',
  body: v.object({ expect: Expect }),
  response: s.Rules,
  handle: ({ environment, account, body }) =>
    changed(environment, account, body.expect, async (client, server) => {
      await bringBack(client, account.id, server);
      await store.removeRules(client, account.id);
    }),
});

export const deleteRule = route({
  method: 'DELETE',
  path: '/accounts/{account}/rules/{rule}',
  summary: 'Deletes a rule. With the last one the person’s own script is active again, as it is.',
  query: v.object({ expect: Expect }),
  response: s.Rules,
  handle: ({ environment, account, parameters, query }) =>
    changed(environment, account, query.expect, async (client, server, scripts) => {
      if (!(await store.removeRule(client, account.id, Number(parameters.rule)))) throw notFound();
      await put(client, account, server, scripts);
    }),
});
