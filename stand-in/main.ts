import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { AuthorizationServer, CLIENT_ID, SCOPE } from './authorization/server';
import { certificates } from './certificates';
import { controlServer } from './control';
import { StandIn } from './host';
import { LeavingServer } from './leaving';
import { Journal } from './mailbox/journal';
import { PassingTime } from './passing-time';
import { filesOf, SHARED } from './scenario/files';
import { hostedMailboxes, messageLimitOf, OPERATOR, pastOf, pastOfScenario } from './scenario/host';
import { type ScenarioSize, scenario } from './scenario/mailbox';
import { withWarnings } from './scenario/warnings';
import { Submission } from './submission';
import { FileSpaceServer } from './webdav/server';
import { FileTree } from './webdav/tree';

/** Runs the stand-in as a process of its own. Says `ready` on standard output, with its ports, when it listens. */
const { values } = parseArgs({
  options: {
    directory: { type: 'string' },
    size: { type: 'string', default: 'full' },
    day: { type: 'string' },
    fresh: { type: 'boolean', default: false },
    'tls-port': { type: 'string', default: '0' },
    'plain-port': { type: 'string', default: '0' },
    'control-port': { type: 'string', default: '0' },
    'smtp-port': { type: 'string', default: '0' },
    'authorization-port': { type: 'string', default: '0' },
    'clock-file': { type: 'string' },
    'leaving-port': { type: 'string', default: '0' },
    'files-port': { type: 'string', default: '0' },
    'every-message': { type: 'boolean', default: false },
  },
});

const size: ScenarioSize = values.size === 'small' ? 'small' : 'full';
const directory = values.directory ? join(values.directory, size) : undefined;
if (values.fresh && directory) Journal.forget(directory);

/**
 * The mailbox ends with the day before the first start, so that no mail is of the time to come. That day is kept, so that the
 * mailbox stays the same mailbox.
 */
function lastDay(): string {
  const last = values.day ?? new Date(Date.now() - 86_400_000).toISOString().slice(0, 10);
  if (!directory) return last;
  const path = join(directory, 'day');
  if (existsSync(path)) return readFileSync(path, 'utf8').trim();
  mkdirSync(directory, { recursive: true });
  writeFileSync(path, `${last}\n`);
  return last;
}

const day = lastDay();
const user = 'secretary@saltmarshlane.example';
const password = 'allotment';
const authorization = await AuthorizationServer.start(new Map([[user, password]]), {
  port: Number(values['authorization-port']),
});
const { key, certificate: cert } = await certificates(directory);
const leaving = await LeavingServer.start({ key, cert }, Number(values['leaving-port']));
const told = withWarnings(scenario(day, size, leaving.port));
const host = await StandIn.start({
  scenario: told,
  user,
  password,
  authorization,
  directory,
  tlsPort: Number(values['tls-port']),
  plainPort: Number(values['plain-port']),
  messageLimit: messageLimitOf(size),
  operators: [OPERATOR],
  hosted: hostedMailboxes(day, size),
  hostedMessageLimit: messageLimitOf(size),
  withEveryMessage: values['every-message'],
});
const tree = new FileTree(filesOf(told, Date.parse(`${day}T18:00:00Z`) / 1000), SHARED, directory);
host.mailbox.shareWith(() => tree.bytes);
const files = await FileSpaceServer.start({
  tree,
  user,
  password,
  authorization,
  room: host.mailbox,
  identity: { key, cert },
  port: Number(values['files-port']),
});
const addFile = (octets: number) => {
  const now = Date.now() / 1000;
  if (octets > 0) tree.grow(`/files/Backups/${Math.floor(now * 1000)}.bin`, octets, Math.floor(now));
};
const submission = await Submission.start(user, host.mailbox, Number(values['smtp-port']));
const control = controlServer(host, files, new PassingTime(told, host.mailbox, leaving, values['clock-file'], addFile));
control.listen(Number(values['control-port']), '127.0.0.1', () => {
  const address = control.address();
  const controlPort = typeof address === 'object' ? address?.port : undefined;
  if (directory) {
    writeFileSync(join(directory, 'authority.pem'), host.authority);
    writeFileSync(
      join(directory, 'past.json'),
      JSON.stringify([[user, pastOfScenario(told, day, messageLimitOf(size))], ...pastOf(day, size)]),
    );
  }
  process.stdout.write(
    `ready ${JSON.stringify({
      tlsPort: host.tlsPort,
      plainPort: host.plainPort,
      smtpPort: submission.port,
      files: files.url.href,
      controlPort,
      authorization: { issuer: authorization.issuer, clientId: CLIENT_ID, scope: SCOPE },
      operator: OPERATOR,
      day,
    })}\n`,
  );
});

for (const signal of ['SIGTERM', 'SIGINT'] as const) {
  process.on(signal, () => {
    control.close();
    void submission.stop();
    void leaving.stop();
    void files.stop();
    void authorization.stop();
    void host.stop().then(() => process.exit(0));
  });
}
