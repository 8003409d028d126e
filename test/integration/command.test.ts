import assert from 'node:assert/strict';
import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { chmodSync, existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { freePort } from '../../src/cli/cluster';
import { cleanUp, later, PASSWORD, ROOT, temporaryFolder, USER, until } from '../harness';

after(cleanUp);

const COMMAND = join(ROOT, 'tamsel');

/** Where keys of data folders would lie. */
const KEYS = temporaryFolder();

function ends(args: string[], env: NodeJS.ProcessEnv): { code: number | null; said: string } {
  const { status, stderr } = spawnSync(COMMAND, args, {
    env: { ...process.env, XDG_CONFIG_HOME: KEYS, ...env },
    encoding: 'utf8',
  });
  return { code: status, said: stderr.trim() };
}

test('what stands in the way is one sentence and an exit code of its own', async () => {
  const taken = createServer();
  await new Promise<void>((done) => taken.listen(0, '127.0.0.1', done));
  const { port } = taken.address() as { port: number };
  const data = temporaryFolder();
  const oldNode = temporaryFolder();
  writeFileSync(join(oldNode, 'node'), '#!/bin/sh\n[ "$1" = --version ] && echo v18.0.0 && exit 0\nexit 1\n');
  chmodSync(join(oldNode, 'node'), 0o755);
  const cases: [number, string[], NodeJS.ProcessEnv][] = [
    [2, ['dance'], {}],
    [2, ['demo', '--size', 'huge'], {}],
    [10, ['demo'], { PATH: `${oldNode}:${process.env.PATH}` }],
    [12, ['start'], { TAMSEL_DATA: '/dev/null/data', TAMSEL_PORT: `${await freePort()}` }],
    [13, ['start'], { TAMSEL_DATA: data, TAMSEL_PORT: `${port}` }],
    [
      14,
      ['start'],
      {
        TAMSEL_DATA: data,
        TAMSEL_PORT: `${await freePort()}`,
        TAMSEL_DATABASE_URL: 'postgres://nobody@127.0.0.1:1/none',
      },
    ],
  ];
  const clients = join(data, 'authorization.json');
  writeFileSync(clients, '[{"hosts": []}]');
  const readable = { TAMSEL_DATA: data, TAMSEL_PORT: `${await freePort()}`, TAMSEL_AUTHORIZATION_FILE: clients };
  cases.push([16, ['start'], readable]);
  const free = { TAMSEL_DATA: data, TAMSEL_PORT: `${await freePort()}` };
  cases.push(
    // What others can reach must say how, and for which mail servers.
    [17, ['start'], { ...free, TAMSEL_HOST: '0.0.0.0' }],
    [17, ['start'], { ...free, TAMSEL_HOST: '::', TAMSEL_ORIGIN: 'http://mail-room.example' }],
    [17, ['start'], { ...free, TAMSEL_ORIGIN: 'https://mail-room.example' }],
    // A variable that can't be read is told at once.
    ...['TAMSEL_SESSION_HOURS', 'TAMSEL_COMMAND_SECONDS', 'TAMSEL_MAX_ACCOUNTS'].map(
      (name): [number, string[], NodeJS.ProcessEnv] => [16, ['start'], { ...free, [name]: 'many' }],
    ),
    [16, ['start'], { ...free, TAMSEL_TRUSTED_PROXY: 'proxy.example' }],
    [16, ['start'], { ...free, TAMSEL_ONLY_SERVERS: 'https://imap.mail-room.example' }],
    [16, ['start'], { ...free, TAMSEL_ORIGIN: 'mail-room' }],
    [2, ['start'], { ...free, TAMSEL_PORT: 'http' }],
    [13, ['demo'], { ...free, TAMSEL_DEMO_IMAPS_PORT: `${port}` }],
    [2, ['demo'], { ...free, TAMSEL_DEMO_IMAPS_PORT: '70000' }],
    [2, ['api', 'mark'], { TAMSEL_TOKEN: 'tamsel_x' }],
  );
  for (const [code, args, env] of cases) {
    const ended = ends(args, env);
    assert.equal(ended.code, code, ended.said);
    assert.equal(ended.said.split('\n').length, 1, ended.said);
  }
  taken.close();
});

/** The processes that were started with a text in their environment, which all that the command starts inherit. */
function processesWith(text: string): string[] {
  return readdirSync('/proc').filter((pid) => {
    try {
      return (
        /^\d+$/.test(pid) && pid !== `${process.pid}` && readFileSync(`/proc/${pid}/environ`, 'latin1').includes(text)
      );
    } catch {
      return false;
    }
  });
}

/** Starts the demo and waits until it says where it is. */
async function demo(
  env: NodeJS.ProcessEnv,
): Promise<{ child: ChildProcess; said: () => string; exit: Promise<number | null> }> {
  let text = '';
  const child = spawn(COMMAND, ['demo', '--size', 'small'], {
    env: { ...process.env, ...env },
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  later(() => child.kill('SIGKILL'));
  for (const stream of [child.stdout, child.stderr]) stream?.on('data', (chunk) => (text += chunk));
  const exit = new Promise<number | null>((done) => child.once('exit', (code) => done(code)));
  await until(() => text.includes('Ctrl-C stops it') || child.exitCode !== null);
  return { child, said: () => text, exit };
}

test('the demo starts, offers its mailbox, ends without a trace of processes, and finds its data again', async () => {
  // Like the home of root: PostgreSQL's user can't enter it.
  const data = temporaryFolder();
  const port = await freePort();
  const env = {
    TAMSEL_DATA: data,
    TAMSEL_PORT: `${port}`,
    TAMSEL_DEMO_IMAPS_PORT: `${await freePort()}`,
    TAMSEL_DEMO_IMAP_PORT: `${await freePort()}`,
    TAMSEL_DEMO_AUTHORIZATION_PORT: `${await freePort()}`,
    TAMSEL_DEMO_LEAVING_PORT: `${await freePort()}`,
    TAMSEL_DEMO_FILES_PORT: `${await freePort()}`,
  };
  const origin = `http://127.0.0.1:${port}`;
  const first = await demo(env);
  assert.ok(processesWith(data).length >= 4);
  assert.match(first.said(), new RegExp(`ready at ${origin}/[\\s\\S]*${USER}, password ${PASSWORD}`));
  assert.match(await (await fetch(`${origin}/sign-in`)).text(), /props="[^"]*secretary@saltmarshlane\.example/);
  const signIn = await fetch(`${origin}/api/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({
      host: 'localhost',
      port: Number(env.TAMSEL_DEMO_IMAPS_PORT),
      security: 'tls',
      user: USER,
      password: PASSWORD,
    }),
  });
  assert.equal(signIn.status, 201, await signIn.clone().text());
  const cookie = signIn.headers.get('set-cookie')?.split(';')[0] as string;
  first.child.kill('SIGTERM');
  assert.equal(await first.exit, 0);
  assert.deepEqual(processesWith(data), []);
  assert.ok(!existsSync(join(data, 'postgres/postmaster.pid')), 'PostgreSQL was shut down in order');
  const day = readFileSync(join(data, 'stand-in/small/day'), 'utf8');

  const again = await demo(env);
  const session = await fetch(`${origin}/api/session`, { headers: { cookie } });
  assert.equal(((await session.json()) as { accounts: { user: string }[] }).accounts[0]?.user, USER);
  assert.equal(readFileSync(join(data, 'stand-in/small/day'), 'utf8'), day);
  // While it runs, nobody else takes its folder, and nothing of it is touched.
  const other = { ...env, TAMSEL_PORT: `${await freePort()}` };
  for (const name of ['IMAPS', 'IMAP', 'AUTHORIZATION', 'LEAVING', 'FILES'].map((part) => `TAMSEL_DEMO_${part}_PORT`))
    Object.assign(other, { [name]: `${await freePort()}` });
  for (const [args, variables, code, said] of [
    [['demo', '--size', 'small', '--fresh', '--yes'], other, 18, /in use since .* by process \d+, at/],
    [['start'], other, 18, /in use/],
    [['demo', '--fresh', '--yes'], env, 13, /Port/],
  ] as const) {
    const ended = ends([...args], variables);
    assert.equal(ended.code, code, ended.said);
    assert.match(ended.said, said);
  }
  const alive = await fetch(`${origin}/api/session`, { headers: { cookie } });
  assert.equal(((await alive.json()) as { accounts: unknown[] }).accounts.length, 1);

  // Killed, it leaves no child behind but its database, which the next start ends first.
  again.child.kill('SIGKILL');
  await again.exit;
  await until(async () =>
    processesWith(data).every((pid) => readFileSync(`/proc/${pid}/cmdline`, 'latin1').includes('postgres')),
  );
  const refused = ends(['demo', '--size', 'small', '--fresh'], env);
  assert.deepEqual([refused.code, /Say --yes/.test(refused.said)], [2, true], refused.said);
  assert.match(ends(['start'], env).said, /is that of .\/tamsel demo/);
  const third = await demo(env);
  const kept = await fetch(`${origin}/api/session`, { headers: { cookie } });
  assert.equal(((await kept.json()) as { accounts: unknown[] }).accounts.length, 1);

  // The command watches its database.
  const [postgres = ''] = readFileSync(join(data, 'postgres/postmaster.pid'), 'utf8').split('\n');
  process.kill(Number(postgres), 'SIGINT');
  assert.equal(await third.exit, 14);
  assert.match(third.said(), /PostgreSQL ended by itself/);
  assert.deepEqual(processesWith(data), []);
});
