import { mkdirSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { operatorSettingsFrom } from '../api/operator-settings';
import { isLoopback } from '../mail/destination';
import { outboundConfigFrom } from '../mail/outbound-config';
import { openDatabase } from '../store/database';
import { migrate, NewerSchema, wrongSetting } from '../store/migrate';
import { trustedProxies } from '../web/client-address';
import { ensureBuilt } from './build';
import { Cluster } from './cluster';
import { DataFolder } from './data-folder';
import { ensurePackages, POSTGRESQL } from './debian';
import { seedDemoHost } from './demo-host';
import { EXIT, Stop } from './exits';
import { ensureKey, ownKeyFileOf } from './key';
import { Processes } from './processes';
import { say } from './say';

export interface ServeOptions {
  root: string;
  /** The data folder, absolute. */
  data: string;
  host: string;
  port: number;
  demo: { size: 'full' | 'small'; everyMessage: boolean } | undefined;
  /** Forgets what was done before. */
  fresh: boolean;
  /** Asks whether what is named may be lost. */
  mayLose(what: string): Promise<boolean>;
}

/** What runs, and a way to end it. */
export interface Served {
  /** Rejects with the reason when what runs can't go on. */
  failed: Promise<never>;
  stop(): Promise<void>;
}

const HEALTHY_WITHIN_MS = 60_000;

/**
 * Starts everything and waits until it is healthy. All that can be known to be in the way is looked at before anything is
 * touched; what was started is stopped again where something fails.
 */
export async function serve(options: ServeOptions): Promise<Served> {
  const { root, data, host, port, demo, fresh } = options;
  checkSettings();
  checkExposure(options);
  await checkPort('TAMSEL_PORT', host, port);
  if (demo)
    for (const [variable, usual] of STAND_IN_PORTS) await checkPort(variable, '127.0.0.1', portOf(variable, usual));
  const purpose = demo ? 'demo' : 'start';
  const folder = DataFolder.looked(data, purpose);
  if (fresh && folder.holdsData) {
    const lost = `All that was done in the demo is forgotten: its index, plan and ledger, in ${data}.`;
    if (!(await options.mayLose(lost))) throw new Stop(EXIT.usage, 'Nothing was changed.');
  }
  const ownCluster = !process.env.TAMSEL_DATABASE_URL;
  if (ownCluster) ensurePackages([POSTGRESQL]);
  ensureBuilt(root);
  const hadData = folder.holdsData && !fresh;
  const giveBack = folder.take(purpose, `http://${host.includes(':') ? `[${host}]` : host}:${port}/`);
  if (fresh) folder.forget();
  mkdirSync(join(data, 'logs'), { recursive: true, mode: 0o700 });
  const processes = new Processes(root, join(data, 'logs'));
  let cluster: Cluster | undefined;
  const stop = async () => {
    await processes.stop();
    await cluster?.stop();
    giveBack();
  };
  try {
    const keyFile = ownKeyFileOf(data, purpose);
    ensureKey(keyFile, ownCluster && hadData);
    if (ownCluster) {
      say('Starting PostgreSQL …');
      cluster = await Cluster.start(data);
    }
    const url = cluster?.url('tamsel') ?? (process.env.TAMSEL_DATABASE_URL as string);
    await applyMigrations(root, url);
    const standIn = await startStandIn(options, processes, url);
    const env = { ...childEnvironment(options, url, keyFile), ...standIn };
    say('Starting the worker and the web server …');
    processes.keep('worker', ['dist/worker/main.mjs'], env);
    processes.keep('web', ['dist/web/main.mjs'], env);
    const failed = Promise.race([processes.failed, ...(cluster ? [cluster.ended] : [])]);
    failed.catch(() => undefined);
    await Promise.race([healthy(host, port), failed]);
    return { failed, stop };
  } catch (error) {
    await stop();
    throw error;
  }
}

/** Where the demo's mail host listens, the same every time, so that the account of the last start is the account of this one. */
const STAND_IN_PORTS = [
  ['TAMSEL_DEMO_IMAPS_PORT', 4993],
  ['TAMSEL_DEMO_IMAP_PORT', 4143],
  ['TAMSEL_DEMO_AUTHORIZATION_PORT', 4180],
  ['TAMSEL_DEMO_LEAVING_PORT', 4943],
  ['TAMSEL_DEMO_FILES_PORT', 4880],
] as const;

function portOf(variable: string, usual: number): number {
  const port = Number(process.env[variable] || usual);
  if (Number.isInteger(port) && port > 0 && port < 65_536) return port;
  throw new Stop(EXIT.usage, `${variable} is no port: ${process.env[variable]}.`);
}

/** Finds out before anything is started that a variable, or a file of the operator's, can't be read, and where. */
function checkSettings(): void {
  try {
    outboundConfigFrom(process.env);
    trustedProxies(process.env.TAMSEL_TRUSTED_PROXY);
    operatorSettingsFrom(process.env);
  } catch (error) {
    throw new Stop(EXIT.fileWrong, (error as Error).message);
  }
}

/**
 * Who listens for others than this machine must say by which address of https it is reached, and for which mail servers it is:
 * else passwords go in plain text, and anybody may sign in with a server of their own.
 */
function checkExposure({ host }: ServeOptions): void {
  const isInside = host === 'localhost' || isLoopback(host);
  const { TAMSEL_ORIGIN: origin = '', TAMSEL_ONLY_SERVERS: only = '' } = process.env;
  if (!isInside && !origin.startsWith('https://'))
    throw new Stop(
      EXIT.unsafe,
      `TAMSEL_HOST is ${host}, which others can reach. Put a proxy with TLS in front, and set TAMSEL_ORIGIN to its address, https://…`,
    );
  if ((!isInside || origin !== '') && only.trim() === '')
    throw new Stop(
      EXIT.unsafe,
      'Others can reach this instance. Set TAMSEL_ONLY_SERVERS to the mail servers that it is for, such as .mail-room.example',
    );
}

/** Finds out before anything is started that a port is taken. */
function checkPort(variable: string, host: string, port: number): Promise<void> {
  return new Promise((resolve, reject) => {
    const probe = createServer();
    probe.once('error', () =>
      reject(
        new Stop(EXIT.portTaken, `Port ${port} on ${host} is taken or can't be used. Set ${variable} to another.`),
      ),
    );
    probe.listen(port, host, () => probe.close(() => resolve()));
  });
}

async function applyMigrations(root: string, url: string): Promise<void> {
  const database = openDatabase(url, 1);
  try {
    await database.query('select 1').catch(() => {
      throw new Stop(EXIT.databaseSilent, 'The database of TAMSEL_DATABASE_URL does not answer.');
    });
    const applied = await migrate(database, join(root, 'src/store/migrations')).catch((error) => {
      throw error instanceof NewerSchema ? new Stop(EXIT.newerData, error.message) : error;
    });
    if (applied.length > 0) say(`Applied ${applied.length} migrations.`);
    const wrong = await wrongSetting(database);
    if (wrong)
      throw new Stop(
        EXIT.databaseSilent,
        `Sessions with the database do not have ${wrong} as Tamsel needs it. A pooler may keep older sessions: have it connect anew (RECONNECT).`,
      );
  } finally {
    await database.end();
  }
}

/** Private addresses may be reached by themselves only while nobody but this machine can ask for it. */
function childEnvironment({ data, host, port }: ServeOptions, url: string, keyFile: string): NodeJS.ProcessEnv {
  const local = (host === 'localhost' || isLoopback(host)) && !process.env.TAMSEL_ORIGIN;
  return {
    ...process.env,
    NODE_ENV: 'production',
    ASTRO_TELEMETRY_DISABLED: '1',
    TAMSEL_DATABASE_URL: url,
    TAMSEL_KEY_FILE: keyFile,
    TAMSEL_ARCHIVE_DIR: process.env.TAMSEL_ARCHIVE_DIR || join(data, 'archive'),
    TAMSEL_HOST: host,
    TAMSEL_PORT: `${port}`,
    ...(local ? { TAMSEL_ALLOW_PRIVATE: process.env.TAMSEL_ALLOW_PRIVATE ?? '1' } : {}),
  };
}

async function startStandIn(
  { data, demo }: ServeOptions,
  processes: Processes,
  url: string,
): Promise<NodeJS.ProcessEnv> {
  if (!demo) return {};
  say('Starting the stand-in mail host …');
  const directory = join(data, 'stand-in');
  const args = ['--import', 'tsx', 'stand-in/main.ts', '--directory', directory, '--size', demo.size];
  const clock = join(directory, 'clock');
  args.push('--clock-file', clock);
  if (demo.everyMessage) args.push('--every-message');
  if (process.env.TAMSEL_DEMO_DAY) args.push('--day', process.env.TAMSEL_DEMO_DAY);
  const [tls, plain, authorizing, leaving, space] = STAND_IN_PORTS.map(
    ([variable, usual]) => `${portOf(variable, usual)}`,
  );
  args.push(
    '--tls-port',
    tls as string,
    '--plain-port',
    plain as string,
    '--authorization-port',
    authorizing as string,
    '--leaving-port',
    leaving as string,
    '--files-port',
    space as string,
  );
  const { tlsPort, smtpPort, files, authorization, operator } = (await processes.ready(
    'stand-in',
    args,
    process.env,
  )) as {
    tlsPort: number;
    smtpPort: number;
    files: string;
    authorization: object;
    operator: { user: string; password: string };
  };
  const offered = {
    host: 'localhost',
    port: tlsPort,
    security: 'tls',
    user: 'secretary@saltmarshlane.example',
    password: 'allotment',
    operator,
  };
  await seedDemoHost(
    url,
    { host: offered.host, port: tlsPort },
    operator.user,
    join(directory, demo.size, 'past.json'),
  );
  // The demo's address leads to its server as any other would.
  const servers = join(directory, 'servers.json');
  writeFileSync(
    servers,
    JSON.stringify({
      'saltmarshlane.example': {
        host: 'localhost',
        port: tlsPort,
        security: 'tls',
        submission: { host: 'localhost', port: smtpPort, security: 'none', signIn: false },
        files,
      },
    }),
  );
  const clients = join(directory, 'authorization.json');
  writeFileSync(clients, JSON.stringify([{ hosts: ['localhost'], ...authorization }]));
  return {
    TAMSEL_CLOCK_FILE: clock,
    TAMSEL_SERVERS_FILE: servers,
    TAMSEL_AUTHORIZATION_FILE: clients,
    TAMSEL_DEMO: JSON.stringify(offered),
    TAMSEL_CA_FILE: join(directory, demo.size, 'authority.pem'),
    TAMSEL_SMTP_URL: `smtp://127.0.0.1:${smtpPort}`,
    TAMSEL_SMTP_FROM: 'tamsel@saltmarshlane.example',
  };
}

async function healthy(host: string, port: number): Promise<void> {
  const name = host === '0.0.0.0' || host === '::' ? '127.0.0.1' : host.includes(':') ? `[${host}]` : host;
  const until = Date.now() + HEALTHY_WITHIN_MS;
  while (Date.now() < until) {
    const answer = await fetch(`http://${name}:${port}/api/health`).catch(() => undefined);
    if (answer?.ok) return;
    await sleep(150);
  }
  throw new Stop(
    EXIT.failed,
    `Tamsel did not become healthy within ${HEALTHY_WITHIN_MS / 1000} s; the logs in the data folder say why.`,
  );
}
