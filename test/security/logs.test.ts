import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { App, cleanUp, PASSWORD, startStandIn, tinyScenario, USER, until } from '../harness';

let app: App;
before(async () => {
  app = await App.start({});
});
after(cleanUp);

interface Line {
  time: string;
  level: string;
  process: string;
  msg: string;
  [field: string]: unknown;
}

test('each sign-in, job, run and refusal is a line of one format, without a secret', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  await app.call('POST', '/session', {
    host: '127.0.0.1',
    port: host.plainPort,
    security: 'none',
    user: USER,
    password: 'not-it-7Qx',
  });
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const token = (
    await app.call('POST', `${account}/tokens`, {
      name: 'a script',
      endsAt: new Date(Date.now() + 86_400_000).toISOString(),
    })
  ).body.token as string;
  assert.ok(token);
  const refused = await app.call('POST', `${account}/scans`, {}, { authorization: `Bearer ${token}`, cookie: '' });
  assert.equal(refused.status, 403);
  const run = await app.ran(account, { action: 'trash', where: 'folder = Bees and not guarded' });
  await until(() => app.log.includes('a run ended'));
  const lines = app.log
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Line);
  for (const { time, level, process, msg } of lines) {
    assert.ok(Math.abs(Date.parse(time) - Date.now()) < 600_000, time);
    assert.match(level, /^(info|warn|error)$/);
    assert.match(process, /^(web|worker)$/);
    assert.ok(msg);
  }
  const with_ = (msg: string) => lines.filter((line) => line.msg === msg);
  assert.equal(with_('a sign-in was refused')[0]?.problem, 'password-refused');
  assert.equal(with_('signed in')[0]?.user, USER);
  const refusal = with_('a request was refused').find(({ status }) => status === 403);
  assert.deepEqual([refusal?.method, refusal?.route], ['POST', '/accounts/{account}/scans']);
  assert.ok(with_('a job was taken').some(({ job }) => job === 'scan'));
  assert.ok(with_('a job was let go').some(({ job }) => job === 'run'));
  assert.deepEqual(with_('a run was asked for')[0]?.run, run.id);
  assert.deepEqual(with_('a run ended')[0]?.done, run.done);
  for (const secret of [
    PASSWORD,
    'not-it-7Qx',
    token,
    ...app.cookie.split('; ').map((cookie) => cookie.split('=')[1] as string),
  ])
    assert.ok(!app.log.includes(secret), 'no secret is logged');
});
