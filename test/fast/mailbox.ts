import { randomBytes, randomUUID } from 'node:crypto';
import { join } from 'node:path';
import pino from 'pino';
import * as v from 'valibot';
import type { Environment } from '../../src/api/environment';
import { limitsFrom } from '../../src/api/limits';
import type { Route, RouteInput } from '../../src/api/route';
import { ROUTES } from '../../src/api/routes';
import { ArchivePlace } from '../../src/archive/place';
import { readBag } from '../../src/jobs/archive/read-bag';
import { repair } from '../../src/jobs/archive/repair';
import { bringIn } from '../../src/jobs/bring-in/bring-in';
import type { WorkContext } from '../../src/jobs/context';
import { prove } from '../../src/jobs/repeats/prove';
import { carryOut, type RunOutcome } from '../../src/jobs/run/run';
import { save } from '../../src/jobs/save/save';
import { scan } from '../../src/jobs/scan/scan';
import { Renderer } from '../../src/render/renderer';
import { type Account, accountById, findOrCreateAccount } from '../../src/store/access/accounts';
import { Vault } from '../../src/store/access/vault';
import { ArchiveWords } from '../../src/store/archive/archive-words';
import { type Database, transaction } from '../../src/store/database';
import { openScan } from '../../src/store/index/scans';
import { enqueue, finishJob, takeJob } from '../../src/store/jobs';
import { addFirstGuards } from '../../src/store/plan/guards';
import { type Run, runById } from '../../src/store/runs/runs';
import { freshDatabase, ROOT, temporaryFolder } from '../harness';
import type { FakeServer } from './fake-server';

let renderer: Renderer | undefined;
let accounts = 0;

/** One process for all mailboxes of a file of tests; it ends with that. */
function rendererOfTests(): Renderer {
  renderer ??= new Renderer(join(ROOT, 'dist/worker/render.mjs'));
  return renderer;
}

const CAPACITY = { large: true, perHost: 8, suspect: true };

/** An account over a fake server: calls of the API and the work behind them, in this process, without sockets. */
export class Mailbox {
  private constructor(
    readonly database: Database,
    readonly server: FakeServer,
    public account: Account,
    readonly context: WorkContext,
    private readonly environment: Environment,
  ) {}

  /** The mailbox of a server, scanned. */
  static async open(server: FakeServer): Promise<Mailbox> {
    const { database } = await freshDatabase();
    const vault = new Vault([randomBytes(32)]);
    const log = pino({ level: 'silent' });
    // What a process remembers of an account is no other mailbox's.
    await database.query(`alter sequence account_id_seq restart with ${++accounts}`);
    const place = { host: 'mail.example', port: 993, security: 'tls' as const, user: 'tern@mail.example' };
    const { id } = await findOrCreateAccount(database, place);
    await addFirstGuards(database, id);
    const account = (await accountById(database, id)) as Account;
    const archive = ArchivePlace.at(temporaryFolder());
    const context = {
      database,
      vault,
      log,
      archive,
      renderer: rendererOfTests(),
      worker: randomUUID(),
      leaseSeconds: 600,
      mostMessages: 1_000,
    } as WorkContext;
    const limits = limitsFrom((_, usual) => usual);
    const archiveWords = new ArchiveWords(database);
    const environment = {
      database,
      vault,
      log,
      limits,
      archive,
      archiveWords,
      canMail: false,
    } as unknown as Environment;
    const mailbox = new Mailbox(database, server, account, context, environment);
    await mailbox.scan();
    return mailbox;
  }

  async scan(): Promise<void> {
    await transaction(this.database, async (client) => {
      const { scan: opened } = await openScan(client, this.account.id);
      await enqueue(client, this.account.id, 'scan', opened.id);
    });
    await this.work();
    this.account = (await accountById(this.database, this.account.id)) as Account;
  }

  /** Calls an operation of the API as its owner does. Throws the Problem that it answers with. */
  async call(
    operation: string,
    body: unknown = {},
    parameters: Record<string, string> = {},
    query: unknown = {},
  ): Promise<any> {
    const route = ROUTES[operation] as Route;
    const input = {
      environment: this.environment,
      account: this.account,
      identity: undefined,
      parameters,
      body: route.body && v.parse(route.body, body),
      query: route.query && v.parse(route.query, query),
    };
    const answer = await route.handle(input as unknown as RouteInput);
    return answer instanceof Response ? answer.json() : JSON.parse(JSON.stringify(answer ?? null));
  }

  /** What an operation answers that gives no JSON. */
  async response(
    operation: string,
    parameters: Record<string, string>,
    headers = {},
    octets?: Buffer,
    query: object = {},
  ): Promise<Response> {
    const { environment, account } = this;
    const sent = octets ? { method: 'POST', body: new Uint8Array(octets) } : {};
    const request = new Request('http://127.0.0.1/', { headers, ...sent });
    const input = { environment, account, parameters, request, query };
    const answer = await (ROUTES[operation] as Route).handle(input as unknown as RouteInput);
    return answer as Response;
  }

  /** Downloads a bag, a range of it, or one of its files. */
  async download(bag: number, range?: string, path?: string): Promise<Response> {
    const route = ROUTES.downloadBag as Route;
    const request = new Request('http://127.0.0.1/', { headers: range ? { range } : {} });
    const { environment, account } = this;
    return route.handle({
      environment,
      account,
      request,
      parameters: { bag: `${bag}` },
      query: path === undefined ? {} : { path },
    } as unknown as RouteInput) as Promise<Response>;
  }

  /** Asks for a run, and does it to its end, or as far as it comes. */
  async run(body: unknown): Promise<Run> {
    const { id } = await this.call('startRun', body);
    await this.work();
    return (await runById(this.database, this.account.id, id)) as Run;
  }

  /** Does the job that waits. What ends it is thrown, and the job stays for whoever takes it up. */
  async work(): Promise<RunOutcome | undefined> {
    const { context, database, server } = this;
    await database.query(`update job set lease_until = null, worker = null where done_at is null`);
    const job = await takeJob(database, context.worker, context.leaseSeconds, CAPACITY);
    if (!job) throw new Error('no job waits');
    const turn = { claimLarge: () => true, progressed: async () => undefined };
    const another = async () => server.another();
    if (job.kind === 'read-bag') {
      await readBag(context, job, this.account, turn);
      return undefined;
    }
    if (job.kind === 'bring-in') {
      await bringIn(context, job, this.account, turn);
      return undefined;
    }
    if (job.kind === 'repair') {
      await repair(context, job, this.account, server, turn);
      return undefined;
    }
    if (job.kind === 'prove') {
      await prove(context, job, this.account, server, another, turn);
      return undefined;
    }
    if (job.kind === 'save') {
      await save(context, job, this.account, server, another, turn);
      return undefined;
    }
    if (job.kind !== 'scan') return carryOut(context, job, this.account, server, another, turn);
    await scan(context, job, this.account, server, another, turn);
    await finishJob(database, job);
    return undefined;
  }

  /** What every folder holds, by subject: on the server, and in the index. */
  get hosted(): Record<string, string[]> {
    const folders = this.server.folderList.filter(({ repeats }) => !repeats);
    return Object.fromEntries(
      folders.map(({ path, messages }) => [path, messages.map(({ subject }) => subject).sort()]),
    );
  }

  async indexed(): Promise<Record<string, string[]>> {
    const { rows } = await this.database.query<{ path: string; subjects: string[] }>(
      `select f.path, coalesce(array_agg(m.subject order by m.subject) filter (where p.id is not null), '{}') as subjects
       from folder f left join placement p on p.account = f.account and p.folder = f.id and p.gone_at is null
       left join message m on m.account = p.account and m.id = p.message
       where f.gone_at is null and not f.repeats group by f.path, f.id order by f.id`,
    );
    return Object.fromEntries(rows.map(({ path, subjects }) => [path, subjects]));
  }
}
