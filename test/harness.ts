import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { afterEach, beforeEach } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { Cluster, freePort } from '../src/cli/cluster';
import { PROGRAMS, programEnvironment } from '../src/cli/programs';
import { Supervisor } from '../src/cli/supervisor';
import { type Database, openDatabase } from '../src/store/database';
import { migrate } from '../src/store/migrate';
import { StandIn, type StandInOptions } from '../stand-in/host';
import { type Scenario, type ScenarioSize, scenario } from '../stand-in/scenario/mailbox';
import { assertContract } from './contract';

export const ROOT = resolve(import.meta.dirname, '..');
export const DAY = '2026-11-24';
export const USER = 'secretary@saltmarshlane.example';
export const PASSWORD = 'allotment';

/** What this file of tests starts bears this mark in its environment, and ends with it (test/leftovers.mjs). */
const MARK = randomBytes(6).toString('hex');
process.env.TAMSEL_TEST_FILE = MARK;
const leftovers = spawn(process.execPath, [join(ROOT, 'test/leftovers.mjs'), MARK], {
  detached: true,
  stdio: ['pipe', 'ignore', 'ignore'],
  // Not of those that bear the mark.
  env: { PATH: process.env.PATH },
});
leftovers.unref();
(leftovers.stdin as unknown as { unref(): void }).unref();

/** Undone in reverse order: what a test began when it ends, the rest by `after(cleanUp)`. */
const undo: (() => unknown)[] = [];
/** What was begun before each of the tests that are under way. */
const begunBefore: number[] = [];

export function later(act: () => unknown): void {
  undo.push(act);
}

// Servers that no test uses any more would take time from the next. Benchmarks and trials, which are no tests, undo all at their end.
if (process.env.NODE_TEST_CONTEXT) {
  beforeEach(() => {
    begunBefore.push(undo.length);
  });
  afterEach(() => undoTo(begunBefore.pop() ?? 0));
}

/** Undoes all, then tells the first failure of it. */
async function undoTo(length: number): Promise<void> {
  const failures: unknown[] = [];
  while (undo.length > length)
    try {
      await undo.pop()?.();
    } catch (error) {
      failures.push(error);
    }
  if (failures.length > 0) throw failures[0];
}

export async function cleanUp(): Promise<void> {
  await undoTo(0);
  const own = ownCluster;
  ownCluster = undefined;
  if (!own) return;
  await (await own.cluster).stop();
  rmSync(own.folder, { recursive: true, force: true });
}

function newFolder(): string {
  return mkdtempSync(join(tmpdir(), `tamsel-test-${MARK}-`));
}

export function temporaryFolder(): string {
  const folder = newFolder();
  later(() => rmSync(folder, { recursive: true, force: true }));
  return folder;
}

/** Of this file, where the test run has none for all. */
let ownCluster: { folder: string; cluster: Promise<Cluster> } | undefined;

/**
 * A fresh, migrated database, in the cluster of the test run or one of this file's own: its address as the application signs
 * in, which owns it and nothing else, and a connection that may do anything.
 */
export async function freshDatabase(): Promise<{ url: string; database: Database }> {
  let { TAMSEL_TEST_CLUSTER: base, TAMSEL_TEST_CLUSTER_SUPERUSER: superuser } = process.env;
  if (!base || !superuser) {
    if (!ownCluster) {
      const folder = newFolder();
      ownCluster = { folder, cluster: Cluster.start(folder, ['-c', 'fsync=off']) };
    }
    base = (await ownCluster.cluster).url('');
    superuser = (await ownCluster.cluster).superuserUrl('');
  }
  const name = `t${randomBytes(6).toString('hex')}`;
  const admin = openDatabase(`${superuser}postgres`, 1);
  await makeModel(admin, base);
  await admin.query(`create database ${name} owner tamsel template ${MODEL}`);
  await admin.end();
  // What a database has by default is no part of its copy.
  await migrated(base + name);
  const database = openDatabase(superuser + name, 4);
  later(() => database.end());
  return { url: base + name, database };
}

/** The migrated database of which all others of a cluster are copies. */
const MODEL = 'model';

/** Makes the model where there is none; files of tests that want it at once wait for each other. */
async function makeModel(admin: Database, base: string): Promise<void> {
  const isThere = async () => (await admin.query('select from pg_database where datname = $1', [MODEL])).rowCount === 1;
  if (await isThere()) return;
  await admin.query('select pg_advisory_lock(1)');
  if (!(await isThere())) {
    await admin.query('create database unfinished owner tamsel');
    await migrated(`${base}unfinished`);
    await admin.query(`alter database unfinished rename to ${MODEL}`);
  }
  await admin.query('select pg_advisory_unlock(1)');
}

async function migrated(url: string): Promise<void> {
  const own = openDatabase(url, 1);
  await migrate(own, join(ROOT, 'src/store/migrations'));
  await own.end();
}

/** Seconds of a lease: a worker on a slow machine keeps it. */
const LEASE_SECONDS = 20;
/** For tests in which one of several workers dies, or the database. */
export const SHORT_LEASE = { TAMSEL_LEASE_SECONDS: '2' };

const scenarios = new Map<ScenarioSize, Scenario>();

export function demoScenario(size: ScenarioSize = 'small'): Scenario {
  const made = scenarios.get(size) ?? scenario(DAY, size);
  scenarios.set(size, made);
  return made;
}

/** Every fourth message of the small mailbox, as full as that. */
export function tinyScenario(): Scenario {
  const small = demoScenario();
  const messages = small.messages.filter((_, index) => index % 4 === 0);
  const octets = messages.reduce((sum, { item }) => sum + item.size, 0);
  return { ...small, messages, limit: Math.round(octets / 0.92), notMail: Math.round(octets * 0.04) };
}

/** A mailbox without the folder of most of its pictures, as full as that: to read and decode them takes long. */
export function withoutPhotographs(whole: Scenario): Scenario {
  const messages = whole.messages.filter(({ folder }) => folder !== 'Photographs');
  const octets = (some: Scenario['messages']) => some.reduce((sum, { item }) => sum + item.size, 0);
  return { ...whole, messages, limit: whole.limit - octets(whole.messages) + octets(messages) };
}

export async function startStandIn(options: Partial<StandInOptions> = {}): Promise<StandIn> {
  const host = await StandIn.start({ scenario: demoScenario(), user: USER, password: PASSWORD, ...options });
  later(() => host.stop());
  return host;
}

/** What the API answered. */
export interface Answer<T = any> {
  status: number;
  body: T;
  headers: Headers;
}

/**
 * A web process and workers over a database of their own, and a session with it: started by what the command starts them with. A
 * test fails where one of them ended or logged an error without being asked for it.
 */
export class App {
  cookie = '';
  private extraWorkers = 0;
  private readonly expected: RegExp[] = [];

  private constructor(
    readonly origin: string,
    readonly database: Database,
    private readonly env: NodeJS.ProcessEnv,
    private readonly workerFlags: readonly string[],
    private readonly supervisor: Supervisor,
  ) {}

  /** @param options.workerFlags of Node, such as those that have it write a profile. */
  static async start(
    options: { authority?: string; env?: NodeJS.ProcessEnv; worker?: boolean; workerFlags?: readonly string[] } = {},
  ): Promise<App> {
    const { url, database } = await freshDatabase();
    const folder = temporaryFolder();
    const port = await freePort();
    const variables: NodeJS.ProcessEnv = {
      ...process.env,
      TAMSEL_ALLOW_PRIVATE: '1',
      TAMSEL_LEASE_SECONDS: `${LEASE_SECONDS}`,
      ...options.env,
    };
    if (options.authority) {
      variables.TAMSEL_CA_FILE = join(folder, 'authority.pem');
      writeFileSync(variables.TAMSEL_CA_FILE, options.authority);
    }
    const restartsFile = join(folder, 'restarts.json');
    const instance = {
      databaseUrl: options.env?.TAMSEL_DATABASE_URL ?? url,
      keyFile: options.env?.TAMSEL_KEY_FILE ?? join(folder, 'key'),
      archive: options.env?.TAMSEL_ARCHIVE_DIR ?? join(folder, 'archive'),
      host: '127.0.0.1',
      port,
      restartsFile,
    };
    const app = new App(
      `http://127.0.0.1:${port}`,
      database,
      programEnvironment(instance, variables),
      options.workerFlags ?? [],
      new Supervisor(ROOT, folder, restartsFile),
    );
    later(() => app.close());
    if (options.worker !== false) app.startWorker();
    await app.startWeb();
    return app;
  }

  get keyFile(): string {
    return this.env.TAMSEL_KEY_FILE as string;
  }

  /** Where its bags are. */
  get archive(): string {
    return this.env.TAMSEL_ARCHIVE_DIR as string;
  }

  get databaseUrl(): string {
    return this.env.TAMSEL_DATABASE_URL as string;
  }

  /** What the processes have logged. */
  get log(): string {
    return ['web', ...this.workers]
      .map((name) => this.supervisor.logOf(name))
      .map((path) => (existsSync(path) ? readFileSync(path, 'utf8') : ''))
      .join('');
  }

  /** Lets a process log an error that a test brings about, or end by itself for a reason (“The worker ended: …”). */
  expectError(...errors: RegExp[]): void {
    this.expected.push(...errors);
  }

  /** Ends all processes. @throws Error where one of them had ended by itself, or had logged an error. */
  private async close(): Promise<void> {
    await this.supervisor.stop('SIGKILL');
    const { log } = this;
    if (process.env.TAMSEL_TEST_LOG) process.stderr.write(log);
    const errors = [
      ...this.supervisor.restarts.map(({ program, why }) => `The ${program} ended: ${why}`),
      ...log.split('\n').filter((line) => isError(line)),
    ].filter((error) => !this.expected.some((pattern) => pattern.test(error)));
    if (errors.length > 0) throw new Error(`Without being asked for it:\n${errors.slice(0, 20).join('\n')}`);
  }

  async startWeb(): Promise<void> {
    this.supervisor.start('web', PROGRAMS.web, this.env);
    const answers = async () => (await fetch(`${this.origin}/api/openapi.json`).catch(() => undefined))?.ok === true;
    await Promise.race([until(answers), this.supervisor.failedToStart]);
  }

  async killWeb(): Promise<void> {
    await this.supervisor.end('web', 'SIGKILL');
  }

  startWorker(): void {
    this.supervisor.start('worker', [...this.workerFlags, ...PROGRAMS.worker], this.env);
  }

  /** One more worker beside the first. */
  addWorker(): void {
    this.extraWorkers++;
    const name = this.workers.at(-1) as string;
    this.supervisor.start(name, [...this.workerFlags, ...PROGRAMS.worker], this.env);
  }

  private get workers(): string[] {
    return ['worker', ...Array.from({ length: this.extraWorkers }, (_, index) => `worker-${index + 2}`)];
  }

  async killExtraWorker(): Promise<void> {
    await this.endExtraWorker('SIGKILL');
  }

  /** Everything anew but the database, after something went wrong. */
  async restarted(): Promise<void> {
    await this.killExtraWorker();
    await this.killWorker();
    await this.killWeb();
    this.startWorker();
    await this.startWeb();
  }

  /** Has PostgreSQL end every session with the database of this instance, as where its machine is lost; others’ go on. */
  async endDatabaseSessions(): Promise<void> {
    this.expectError(DATABASE_AWAY);
    await this.database.query(
      'select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()',
    );
  }

  /** Kills a process of PostgreSQL, upon which it ends all sessions and recovers from its log; waits until it answers. */
  async killDatabase(): Promise<void> {
    this.expectError(DATABASE_AWAY);
    const { rows } = await this.database.query<{ pid: number }>(
      `select pid from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() order by random() limit 1`,
    );
    if (!rows[0]) return;
    process.kill(rows[0].pid, 'SIGKILL');
    await sleep(200);
    await until(async () => (await this.database.query('select 1').catch(() => undefined)) !== undefined);
  }

  async killWorker(): Promise<void> {
    await this.supervisor.end('worker', 'SIGKILL');
    if (this.workers.every((name) => this.supervisor.pidOf(name) === undefined)) await this.leasesEndSoon();
  }

  /** What no worker holds any more is free after a moment, as though most of the lease had passed when it died. */
  private async leasesEndSoon(): Promise<void> {
    for (const table of ['job', 'host_mailbox'])
      await this.database
        .query(`update ${table} set lease_until = now() + interval '1 s' where lease_until > now() + interval '1 s'`)
        // The database may be away too.
        .catch(() => undefined);
  }

  /** Asks processes to end, as who upgrades them does. */
  async endWorker(): Promise<void> {
    await this.supervisor.end('worker');
  }

  async endExtraWorker(signal?: NodeJS.Signals): Promise<void> {
    await Promise.all(this.workers.slice(1).map((name) => this.supervisor.end(name, signal)));
  }

  async endWeb(): Promise<void> {
    await this.supervisor.end('web');
  }

  get webPid(): number | undefined {
    return this.supervisor.pidOf('web');
  }

  get workerPid(): number | undefined {
    return this.supervisor.pidOf('worker');
  }

  async call<T = any>(
    method: string,
    path: string,
    body?: unknown,
    headers: Record<string, string> = {},
  ): Promise<Answer<T>> {
    const ask = () =>
      fetch(`${this.origin}/api${path}`, {
        method,
        headers: { ...(this.cookie ? { cookie: this.cookie } : {}), 'content-type': 'application/json', ...headers },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
      });
    const response = await ask().catch((error: Error & { cause?: { code?: string } }) => {
      // A connection that was kept may be closed just as it is used again (RFC 9112 §9.3.1): what changes nothing is asked anew.
      if (method === 'GET' && error.cause?.code === 'UND_ERR_SOCKET') return ask();
      throw error;
    });
    const text = await response.text();
    const isJson = /json$/.test(response.headers.get('content-type') ?? '');
    if (isJson && response.ok) await assertContract(method, path, response.status, JSON.parse(text));
    return { status: response.status, body: (isJson ? JSON.parse(text) : text) as T, headers: response.headers };
  }

  /** Signs in and keeps the session; gives the path of the account. */
  async signIn(access: Record<string, unknown>): Promise<string> {
    const answer = await this.call('POST', '/session', {
      user: USER,
      password: PASSWORD,
      host: '127.0.0.1',
      security: 'none',
      ...(access.signInAs ? { reason: 'The owner asked for help.' } : {}),
      ...access,
    });
    if (answer.status !== 201) throw new Error(`signing in failed: ${JSON.stringify(answer.body)}`);
    this.keepCookies(answer.headers);
    return `/accounts/${answer.body.account.id}`;
  }

  /** As a browser does: the newest of each name. */
  keepCookies(headers: Headers): void {
    const kept = new Map(this.cookie.split('; ').map((cookie) => [cookie.split('=')[0], cookie]));
    for (const set of headers.getSetCookie()) kept.set(set.split('=')[0], set.split(';')[0] as string);
    this.cookie = [...kept.values()].filter(Boolean).join('; ');
  }

  /** As another browser would be. */
  forgetCookie(): void {
    this.cookie = '';
  }

  /** Waits for the newest scan, or starts one and waits for it. */
  async scanned(account: string, fresh = false): Promise<any> {
    if (fresh) await this.call('POST', `${account}/scans`, {});
    return this.finished(`${account}/scans/last`);
  }

  /** Starts a run and waits for its end. */
  async ran(account: string, run: unknown): Promise<any> {
    const started = await this.call('POST', `${account}/runs`, run);
    if (started.status !== 202) throw new Error(`the run was refused: ${JSON.stringify(started.body)}`);
    return this.finished(`${account}/runs/${started.body.id}`);
  }

  async finished(path: string, seconds = PATIENCE_S): Promise<any> {
    let last: Answer | undefined;
    await until(async () => {
      last = await this.call('GET', path);
      return ['done', 'failed', 'cancelled', 'paused'].includes(last.body.state);
    }, seconds);
    return last?.body;
  }
}

/** What programs log while the database is away. */
export const DATABASE_AWAY =
  /terminating connection|the database could not be used|Connection terminated|ECONNREFUSED|the database system is/;

/** Whether a line of a log tells of an error; what is no event of ours, such as a stack, does. */
function isError(line: string): boolean {
  if (line === '') return false;
  if (!line.startsWith('{')) return true;
  return /^\{"level":"(error|fatal)"/.test(line);
}

/** How long anything is waited for. A machine may be slow: only what hangs is to fail, before the runner gives the file up. */
const PATIENCE_S = 480;
export const PATIENCE_MS = PATIENCE_S * 1000;
const LEAST_PAUSE_MS = 60;
const MOST_PAUSE_MS = 1000;

/** Waits until something holds. The longer it takes, the less often it is asked for: asking takes its time from what is waited for. */
export async function until(holds: () => Promise<boolean> | boolean, seconds = PATIENCE_S): Promise<void> {
  const start = Date.now();
  while (!(await holds())) {
    const waited = Date.now() - start;
    if (waited > seconds * 1000) throw new Error(`it did not come to hold within ${seconds} s`);
    await sleep(Math.min(Math.max(LEAST_PAUSE_MS, waited / 10), MOST_PAUSE_MS));
  }
}

/** Every folder of the index with its messages and octets. */
export async function indexed(app: App, account: string): Promise<Record<string, { messages: number; bytes: number }>> {
  const { body } = await app.call('GET', `${account}/level`);
  return Object.fromEntries(
    body.folders
      .filter(({ repeats }: { repeats: boolean }) => !repeats)
      .map(({ path, messages, bytes }: { path: string; messages: number; bytes: number }) => [
        path,
        { messages, bytes },
      ]),
  );
}

/** Every folder of the stand-in likewise; views that repeat mail left out. */
export function hosted(host: StandIn): Record<string, { messages: number; bytes: number }> {
  const folders = [...host.mailbox.folders.values()].filter((folder) => !host.mailbox.isView(folder));
  return Object.fromEntries(folders.map(({ name, messages, bytes }) => [name, { messages: messages.length, bytes }]));
}
