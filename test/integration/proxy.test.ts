import assert from 'node:assert/strict';
import { execFile, execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createConnection } from 'node:net';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { promisify } from 'node:util';
import { freePort } from '../../src/cli/cluster';
import { certificates } from '../../stand-in/certificates';
import {
  App,
  cleanUp,
  later,
  PASSWORD,
  ROOT,
  startStandIn,
  temporaryFolder,
  tinyScenario,
  USER,
  until,
} from '../harness';

after(cleanUp);

/** The example of operate/nginx.conf, run by Debian's nginx on other ports and with other certificates. */
async function startNginx(web: number): Promise<{ plain: number; tls: number }> {
  const folder = temporaryFolder();
  const made = await certificates(undefined);
  const [plain, tls] = [await freePort(), await freePort()];
  const written = (name: string, text: string) => {
    writeFileSync(join(folder, name), text, { mode: 0o600 });
    return join(folder, name);
  };
  const example = readFileSync(join(ROOT, 'operate/nginx.conf'), 'utf8');
  const changed = [
    ['server 127.0.0.1:4321;', `server 127.0.0.1:${web};`],
    ['listen 80;', `listen 127.0.0.1:${plain};`],
    ['listen 443 ssl http2;', `listen 127.0.0.1:${tls} ssl http2;`],
    ['/etc/ssl/mail-room.example/fullchain.pem', written('cert.pem', made.certificate)],
    ['/etc/ssl/mail-room.example/key.pem', written('key.pem', made.key)],
  ].reduce((text, [from, to]) => {
    assert.ok(text.includes(from as string), from);
    return text.replace(from as string, to as string);
  }, example);
  const temporary = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi']
    .map((name) => `${name}_temp_path ${join(folder, name)};`)
    .join('\n');
  mkdirSync(join(folder, 'logs'));
  const file = written(
    'nginx.conf',
    `daemon off;\npid ${folder}/pid;\nerror_log ${folder}/logs/error.log;\nworker_processes 1;\n${process.getuid?.() === 0 ? 'user root;\n' : ''}events {}\nhttp {\naccess_log off;\n${temporary}\n${changed}\n}\n`,
  );
  execFileSync('/usr/sbin/nginx', ['-t', '-q', '-p', folder, '-c', file], { stdio: ['ignore', 'ignore', 'inherit'] });
  const nginx = spawn('/usr/sbin/nginx', ['-p', folder, '-c', file], { stdio: 'ignore' });
  later(async () => {
    const gone = once(nginx, 'exit');
    nginx.kill('SIGTERM');
    await gone;
  });
  await until(
    () =>
      new Promise<boolean>((resolve) => {
        const socket = createConnection(tls, '127.0.0.1', () => resolve(true));
        socket.once('error', () => resolve(false));
        later(() => socket.destroy());
      }),
  );
  return { plain, tls };
}

test('behind the nginx of the example: TLS, signing in, events as they happen, whom the limits are for, and no metrics', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start({
    env: {
      TAMSEL_ORIGIN: 'https://mail-room.example',
      TAMSEL_TRUSTED_PROXY: '127.0.0.1',
      TAMSEL_ONLY_SERVERS: '127.0.0.1',
    },
  });
  const { plain, tls } = await startNginx(Number(new URL(app.origin).port));
  const folder = temporaryFolder();
  // The mail host answers from this process. The certificate is one of localhost, so it is not checked.
  const curl = async (path: string, ...more: string[]) => {
    const { stdout } = await promisify(execFile)(
      'curl',
      [
        ...['-sS', '--max-time', '20', '-k', '-b', join(folder, 'jar'), '-c', join(folder, 'jar')],
        ...['--connect-to', `mail-room.example:443:127.0.0.1:${tls}`, ...more],
        `https://mail-room.example${path}`,
      ],
      { encoding: 'utf8' },
    );
    return stdout;
  };
  const moved = await fetch(`http://127.0.0.1:${plain}/level`, {
    headers: { host: 'mail-room.example' },
    redirect: 'manual',
  });
  assert.equal(moved.status, 301);
  assert.match(await curl('/sign-in', '-i'), /^HTTP\/2 200[\s\S]*strict-transport-security/i);
  const access = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };
  const send = (origin: string) => [
    ...['-X', 'POST', '-H', 'content-type: application/json', '-H', `origin: ${origin}`],
    ...['-H', 'x-forwarded-for: 203.0.113.9', '-d', JSON.stringify(access)],
  ];
  assert.match(await curl('/api/session', '-i', ...send('https://elsewhere.example')), /^HTTP\/2 403/);
  const signedIn = await curl('/api/session', '-i', ...send('https://mail-room.example'));
  assert.match(signedIn, /^HTTP\/2 201[\s\S]*set-cookie: [^\n]*; Secure/i);
  const { account } = JSON.parse(signedIn.slice(signedIn.indexOf('{')));
  assert.match(app.log, /"from":"127\.0\.0\.1/, 'what the browser says of itself is not believed');
  assert.doesNotMatch(app.log, /203\.0\.113/);
  // What happens comes while the answer is still open: nothing is held back on the way.
  const watching = spawn('curl', [
    ...['-sSN', '-k', '-b', join(folder, 'jar'), '--connect-to', `mail-room.example:443:127.0.0.1:${tls}`],
    `https://mail-room.example/api/accounts/${account.id}/events`,
  ]);
  later(() => watching.kill());
  let told = '';
  watching.stdout.setEncoding('utf8').on('data', (text: string) => {
    told += text;
  });
  await until(async () => {
    await curl(`/api/accounts/${account.id}/scans`, ...['-X', 'POST', '-H', 'origin: https://mail-room.example']);
    return /event: scan/.test(told);
  });
  assert.match(await curl('/api/metrics', '-i'), /^HTTP\/2 404/);
  assert.equal((await fetch(`${app.origin}/api/metrics`)).status, 200, 'this machine sees them');
});
