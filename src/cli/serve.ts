import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { operatorSettingsFrom } from '../api/operator-settings';
import { outboundConfigFrom } from '../mail/outbound-config';
import { openDatabase } from '../store/database';
import { migrate, NewerSchema, wrongSetting } from '../store/migrate';
import { trustedProxies } from '../web/client-address';
import { ensureBuilt } from './build';
import { Cluster } from './cluster';
import { DataFolder } from './data-folder';
import { ensurePackages, POSTGRESQL } from './debian';
import { seedDemoHost } from './demo-host';
import { demoPorts } from './demo-ports';
import { EXIT, Stop } from './exits';
import { ensureKey, ownKeyFileOf } from './key';
import { checkPort } from './ports';
import { isOnThisMachine, PROGRAMS, programEnvironment, takenOver } from './programs';
import { say } from './say';
import { Supervisor } from './supervisor';

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
  const ports = demo && (await demoPorts(data));
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
  ports?.keep();
  const restartsFile = join(data, 'restarts.json');
  const supervisor = new Supervisor(root, join(data, 'logs'), restartsFile);
  let cluster: Cluster | undefined;
  const stop = async () => {
    await supervisor.stop();
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
    const standIn = await startStandIn(options, ports?.args ?? [], supervisor, url);
    const archive = process.env.TAMSEL_ARCHIVE_DIR || join(data, 'archive');
    const instance = { databaseUrl: url, keyFile, archive, host, port, restartsFile };
    const env = { ...programEnvironment(instance), ...standIn };
    say('Starting the worker and the web server …');
    supervisor.start('worker', PROGRAMS.worker, env);
    supervisor.start('web', PROGRAMS.web, env);
    const failed = cluster?.ended ?? new Promise<never>(() => {});
    await Promise.race([healthy(host, port), failed, supervisor.failedToStart]);
    return { failed, stop };
  } catch (error) {
    await stop();
    throw error;
  }
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
  const isInside = isOnThisMachine(host);
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

async function startStandIn(
  { data, demo }: ServeOptions,
  ports: readonly string[],
  supervisor: Supervisor,
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
  args.push(...ports);
  const { tlsPort, smtpPort, files, authorization, operator } = (await supervisor.startReady(
    'stand-in',
    args,
    takenOver(),
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
