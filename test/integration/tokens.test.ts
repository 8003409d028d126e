import assert from 'node:assert/strict';
import { execFile, spawnSync } from 'node:child_process';
import { readdirSync, readFileSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { promisify } from 'node:util';
import { parse } from 'csv-parse/sync';
import { forgetCredential } from '../../src/store/access/credentials';
import { type Queryable, transaction } from '../../src/store/database';
import { finishJob, type Job } from '../../src/store/jobs';
import type { StandIn } from '../../stand-in/host';
import { App, cleanUp, ROOT, startStandIn, temporaryFolder, tinyScenario, until } from '../harness';

let host: StandIn;
let app: App;
let account: string;

before(async () => {
  host = await startStandIn({ scenario: tinyScenario() });
  app = await App.start();
  account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
});
after(cleanUp);

const inDays = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString();
const make = (more: Record<string, unknown> = {}) =>
  app.call('POST', `${account}/tokens`, { name: 'a script', endsAt: inDays(30), ...more });

/** Asks with a token and no cookie. */
async function by(token: string, method: string, path: string, body?: unknown) {
  const answer = await app.call(method, path, body, { cookie: '', authorization: `Bearer ${token}` });
  return `${answer.status} ${answer.body?.type ?? ''}`.trim();
}

test('a token is told once, hashed at rest, reads or acts as it was made to, and ends', async () => {
  const reading = (await make()).body;
  const acting = (await make({ name: 'another', acts: true })).body;
  assert.match(reading.token, /^tamsel_[\w-]{43}$/);
  const { tokens } = (await app.call('GET', `${account}/tokens`)).body;
  assert.deepEqual(
    tokens.map(({ id, name, acts }: Record<string, unknown>) => [id, name, acts]),
    [
      [2, 'another', true],
      [1, 'a script', false],
    ],
  );
  const { rows } = await app.database.query('select * from api_token');
  assert.ok(!JSON.stringify(rows).includes(reading.token) && !JSON.stringify(tokens).includes('tamsel_'));
  for (const path of ['/session', `${account}/level`, `${account}/senders`, `${account}/runs`])
    assert.equal(await by(reading.token, 'GET', path), '200', path);
  const lot = { where: 'size > 1 MB', label: 'big' };
  assert.equal(await by(reading.token, 'POST', `${account}/lots`, lot), '403 /problems/token-may-not');
  assert.equal(await by(acting.token, 'POST', `${account}/lots`, lot), '201');
  // What is a person's alone no script may do.
  for (const [method, path, body] of [
    ['GET', `${account}/tokens`],
    ['POST', `${account}/tokens`, { name: 'more', endsAt: inDays(1) }],
    ['DELETE', `${account}/tokens/1`],
    ['DELETE', account],
    ['DELETE', '/session'],
    ['POST', '/session', { host: 'h.example', port: 1, security: 'tls', user: 'u', password: 'p' }],
  ] as const)
    assert.equal(await by(acting.token, method, path, body), '403 /problems/token-may-not', `${method} ${path}`);
  assert.equal((await app.call('DELETE', `${account}/tokens/2`)).status, 204);
  assert.equal((await app.call('DELETE', `${account}/tokens/2`)).status, 404);
  for (const dead of [acting.token, 'tamsel_nonsense', ''])
    assert.match(await by(dead, 'GET', `${account}/level`), /^401 \/problems\/token-not-valid/);
  // A proxy's own scheme does not get in the way of the session.
  const proxied = await app.call('GET', `${account}/level`, undefined, { authorization: 'Basic eDp5' });
  assert.equal(proxied.status, 200);
  await app.database.query(`update api_token set ends_at = now() - interval '1 second' where id = 1`);
  assert.equal(await by(reading.token, 'GET', `${account}/level`), '401 /problems/token-not-valid');
  for (const endsAt of [inDays(-1), inDays(400), 'soon']) assert.equal((await make({ endsAt })).status, 422, endsAt);
});

/** Runs `./tamsel api` with a token; what it wrote, or its exit code and why. */
async function command(token: string, args: string[], more: NodeJS.ProcessEnv = {}): Promise<string> {
  const env = { ...process.env, TAMSEL_URL: app.origin, TAMSEL_TOKEN: token, ...more };
  return promisify(execFile)(process.execPath, ['--import', 'tsx', 'src/cli/main.ts', 'api', ...args], {
    cwd: ROOT,
    env,
  }).then(
    ({ stdout }) => stdout,
    ({ code, stdout, stderr }: { code: number; stdout: string; stderr: string }) => `${code} ${stderr || stdout}`,
  );
}

test('./tamsel api shows level, senders, lots and runs as tables and as JSON, and says what is wrong', async () => {
  const { token } = (await make({ acts: true })).body;
  const run = (args: string[], more: NodeJS.ProcessEnv = {}) => command(token, args, more);
  const level = (await app.call('GET', `${account}/level`)).body;
  assert.match(await run(['level']), new RegExp(`\\nmail +[\\d.]+ [KMG]iB +${level.mail.messages}\\n`));
  assert.equal(JSON.parse(await run(['level', '--json'])).used, level.used);
  const [first] = (await app.call('GET', `${account}/senders?by=domain&limit=1`)).body.senders;
  const senders = (await run(['senders', '--by', 'domain', '--limit', '3'])).trim().split('\n');
  assert.equal(senders.length, 4);
  assert.ok(senders[1]?.startsWith(first.key) && senders[1]?.includes(` ${first.messages} `));
  const marked = JSON.parse(await run(['mark', '--where', 'size > 2 MB', '--label', 'over two', '--json']));
  assert.match(await run(['lots']), new RegExp(`${marked.id} over two +[\\d.]+ MiB +${marked.messages}`));
  const begun = JSON.parse(await run(['run', 'trash', '--lots', `${marked.id}`, '--wait', '--json']));
  assert.equal(begun.state, 'done');
  assert.match(await run(['runs']), new RegExp(`${begun.id} trash .* ${marked.messages} +${marked.messages} +done`));
  // What goes for good is said by its number, else nothing is begun.
  const refused = await run(['run', 'purge', '--run', `${begun.id}`]);
  assert.match(refused, new RegExp(`^1 tamsel: This would affect ${marked.messages} messages .*--expect`));
  assert.match(
    await run(['run', 'purge', '--run', `${begun.id}`, '--expect', `${marked.messages + 1}`]),
    /^1 tamsel: This would/,
  );
  assert.match(
    await run(['run', 'purge', '--run', `${begun.id}`, '--expect', 'all']),
    /^2 tamsel: --expect is a number/,
  );
  assert.match(await run(['runs']), /^run[^\n]*\n\d+ trash[^\n]*\n?$/, 'no purge was begun');
  const purged = await run(['run', 'purge', '--run', `${begun.id}`, '--expect', `${marked.messages}`, '--wait']);
  assert.match(purged, new RegExp(` purge .* ${marked.messages} +${marked.messages} +done`));
  assert.match(await run(['mark']), /^2 tamsel: Say what is to be marked/);
  assert.match(await run(['scan', '--wait']), /\n\d+ +\d+ +\w+ +done/);
  // Every message once, over several pages, in an order; what a spreadsheet would run is escapeFormula.
  const { total } = (await app.call('GET', `${account}/messages?scope=all&limit=1`)).body;
  assert.ok(total.messages > 1_000);
  const [head, ...lines] = parse(await run(['messages', '--scope', 'all', '--order', 'date'])) as string[][];
  assert.deepEqual(head?.slice(0, 5), ['id', 'folder', 'uid', 'from', 'name']);
  assert.equal(new Set(lines.map(([id]) => id)).size, total.messages);
  assert.equal(
    lines.reduce((sum, cells) => sum + Number(cells[head?.indexOf('size') ?? 0]), 0),
    total.bytes,
  );
  assert.ok(lines.flat().every((cell) => !/^[=+@]/.test(cell)));
  const big = (await run(['messages', '--where', 'size > 1 MB', '--json'])).trim().split('\n');
  assert.ok(big.every((line) => JSON.parse(line).size > 1_000_000));
  assert.match(await run(['messages', '--where', 'size >>']), /^1 tamsel: .+/);
  assert.match(await run(['guards']), /^guard +size +messages\n\d+ /);
  assert.match(await run(['senders', '--where', 'size >>']), /^1 tamsel: .+/);
  assert.match(await run(['level'], { TAMSEL_TOKEN: 'tamsel_x' }), /^1 tamsel: This token is unknown/);
  assert.match(await run(['level'], { TAMSEL_TOKEN: '' }), /^2 tamsel: TAMSEL_TOKEN is missing/);
  assert.match(await run(['level'], { TAMSEL_URL: 'http://127.0.0.1:1' }), /^1 tamsel: Tamsel does not answer/);
  assert.match(await run(['nonsense']), /^2 tamsel: There is no command/);
});

test('./tamsel api saves files, downloads them in two goes, checks the copy, and takes them out of the mail', async () => {
  const { token } = (await make({ acts: true })).body;
  const run = (...args: string[]) => command(token, args);
  const some = 'kind = picture and size < 300 kB';
  assert.match(await run('files', '--where', some, '--limit', '2'), /^file +size +from +date +copy\n.+ none\n/);
  assert.match(await run('save'), /^2 tamsel: Say what is to be saved/);
  const bag = JSON.parse(await run('save', '--where', some, '--place', 'download', '--wait', '--json'));
  assert.deepEqual([bag.state, bag.checked.files, bag.left], ['done', 0, []]);
  const folder = temporaryFolder();
  const archive = join(folder, 'files.zip');
  assert.equal(await run('download', `${bag.id}`, archive), `Written to ${archive}.\n`);
  const whole = readFileSync(archive);
  // Broken off at half, it goes on there; what is whole stays as it is.
  truncateSync(archive, Math.floor(whole.length / 2));
  for (const _ of [1, 2]) {
    await run('download', `${bag.id}`, archive);
    assert.deepEqual(readFileSync(archive), whole);
  }
  assert.equal(spawnSync('unzip', ['-tq', archive]).status, 0);
  assert.equal(spawnSync('unzip', ['-q', archive, '-d', folder]).status, 0);
  const [name] = readdirSync(folder).filter((each) => each !== 'files.zip');
  const copy = join(folder, name as string);
  assert.equal(spawnSync('sha256sum', ['--strict', '--quiet', '-c', 'manifest-sha256.txt'], { cwd: copy }).status, 0);
  const [first] = JSON.parse(await run('files', '--where', some, '--limit', '1', '--json')).files;
  const path = readdirSync(copy, { recursive: true, encoding: 'utf8' }).find((each) =>
    each.endsWith(`/${first.name}`),
  ) as string;
  const octets = readFileSync(join(copy, path));
  writeFileSync(join(copy, path), Buffer.concat([octets, Buffer.from('!')]));
  assert.match(
    await run('check', `${bag.id}`, copy),
    new RegExp(`^1 ${bag.saved.files - 1} files are equal.\ndiffers: `),
  );
  writeFileSync(join(copy, path), octets);
  assert.equal(await run('check', `${bag.id}`, copy), `${bag.saved.files} files are equal.\n`);
  assert.match(await run('bags'), new RegExp(` ${bag.saved.files} +${bag.saved.files} +${bag.saved.files} +done`));
  const lot = JSON.parse(await run('mark', '--bag', `${bag.id}`, '--json'));
  const strip = JSON.parse(await run('run', 'strip', '--lots', `${lot.id}`, '--wait', '--json'));
  assert.deepEqual([strip.state, strip.left], ['done', []]);
  assert.match(await run('check', `${bag.id}`, join(folder, 'nowhere')), /^2 tamsel: .*can’t be read/);
  const undo = JSON.parse(await run('run', 'restore', '--run', `${strip.id}`, '--wait', '--json'));
  assert.equal(undo.done.messages, strip.done.messages);
});

const kept = async () => (await app.database.query('select 1 from credential')).rows.length;

test('a token keeps the account looked after when the last session is gone; without one the credentials go', async () => {
  const { token } = (await make({ acts: true })).body;
  await app.call('DELETE', '/session');
  assert.equal(await kept(), 1);
  assert.equal(await by(token, 'POST', `${account}/scans`, {}), '202');
  await app.signIn({ port: host.plainPort });
  for (const { id } of (await app.call('GET', `${account}/tokens`)).body.tokens)
    await app.call('DELETE', `${account}/tokens/${id}`);
  await app.call('DELETE', '/session');
  // A run that is told as done may still hold them for a moment.
  await until(async () => (await kept()) === 0);
});

test('whoever signs out while a run ends, the credentials go with the later of the two', async () => {
  for (const first of ['end', 'sign-out'] as const) {
    await app.signIn({ port: host.plainPort });
    const { rows } = await app.database.query<Job>(
      `insert into job (account, kind, subject, not_before) select id, 'run', 4711, now() + interval '1 day' from account
       returning account, id, kind`,
    );
    const job = rows[0] as Job;
    const acts = {
      end: (db: Queryable) => finishJob(db, job),
      'sign-out': (db: Queryable) => forgetCredential(db, job.account),
    };
    const second = acts[first === 'end' ? 'sign-out' : 'end'];
    let other: Promise<void> | undefined;
    await transaction(app.database, async (client) => {
      await acts[first](client);
      other = transaction(app.database, second);
      const waits = `select 1 from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()`;
      await Promise.race([other, until(async () => (await app.database.query(waits)).rows.length > 0)]);
    });
    await other;
    assert.equal(await kept(), 0, first);
  }
});
