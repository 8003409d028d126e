import { execFileSync } from 'node:child_process';
import { linkSync, mkdirSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { AUTHORS } from '../src/mail/imap/fetch/outline';
import { METADATA } from '../src/mail/imap/fetch/record';
import { scenario } from '../stand-in/scenario/mailbox';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot, dovecotClient, fillFolder, startDovecot } from '../test/dovecot';
import { App, cleanUp, DAY } from '../test/harness';
import { Bare, timed } from './bare';
import { median, printResults, rounded } from './measure';

/**
 * The scan against Debian's Dovecot on loopback, beside the bare protocol on the same server in the same run: a socket that
 * throws away the same responses. Prints a table, and the same as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    messages: { type: 'string', default: '20000' },
    turns: { type: 'string', default: '3' },
    library: { type: 'boolean', default: false },
  },
});
const COUNT = Number(values.messages);
const TURNS = Number(values.turns);
/** Messages that are composed; more are links to these in further folders. */
const DISTINCT = 100_000;

/** Seconds to the end of each stage of a scan. */
interface Stages {
  /** From signing in until the worker begins; the others are counted from there. */
  begun: number;
  level: number;
  ranking: number;
  index: number;
  settled: number;
  words: number;
  /** Megabytes that the worker held at most until the index was whole, and in all. */
  indexMemory: number;
  memory: number;
}

function fill(dovecot: Dovecot): string[] {
  const all = scenario(DAY, 'full').messages.filter(({ item }) => item.size < 60_000);
  const items = Array.from({ length: Math.min(COUNT, DISTINCT) }, (_, index) => {
    const message = all[index % all.length] as (typeof all)[number];
    return message.item;
  });
  const half = Math.ceil(items.length / 2);
  const folders = ['First', 'Second'];
  fillFolder(dovecot, 'First', items.slice(0, half));
  fillFolder(dovecot, 'Second', items.slice(half));
  for (let more = DISTINCT; more < COUNT; more += half) {
    const name = `More${more}`;
    const [from, to] = [join(dovecot.maildir, '.First'), join(dovecot.maildir, `.${name}`)];
    for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(to, part), { recursive: true });
    for (const file of readdirSync(join(from, 'cur')).slice(0, COUNT - more))
      linkSync(join(from, 'cur', file), join(to, 'cur', file));
    folders.push(name);
  }
  execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  return folders;
}

/** How long a bare socket takes for the same responses; the median of several turns, and their octets. */
async function drained(dovecot: Dovecot, folders: readonly string[], items: string) {
  const turns: { seconds: number; octets: number }[] = [];
  for (let turn = 0; turn < TURNS; turn++) {
    const { seconds, result } = await timed(async () => {
      let octets = 0;
      const bare = await Bare.open(dovecot);
      for (const name of folders) {
        await bare.command(`SELECT INBOX.${name}`);
        octets += await bare.command(`UID FETCH 1:* (${items})`);
      }
      bare.close();
      return octets;
    });
    turns.push({ seconds, octets: result });
  }
  return { seconds: median(turns.map(({ seconds }) => seconds)), octets: turns[0]?.octets ?? 0 };
}

/** Watches a scan in the tables; polling costs it next to nothing. */
async function watched(app: App, account: string, asked: number): Promise<Stages> {
  const id = Number(account.split('/').at(-1));
  const stages: Partial<Stages> = {};
  let begunAt = 0;
  const now = () => (Date.now() - begunAt) / 1000;
  while (stages.words === undefined) {
    const { rows } = await app.database.query(
      `select s.stage, s.state, s.outline is not null as outlined, j.done_at is not null as over,
         extract(epoch from j.begun_at) * 1000 as "begunAt"
       from scan s left join job j on j.account = s.account and j.kind = 'scan' and j.subject = s.id
       where s.account = $1 order by s.id desc limit 1`,
      [id],
    );
    const { stage, state, outlined, over } = rows[0] ?? {};
    begunAt = Number(rows[0]?.begunAt ?? 0);
    if (begunAt > 0) stages.begun ??= (begunAt - asked) / 1000;
    if (state === 'failed') throw new Error('the scan failed');
    if (stage === 'outline' || stage === 'details') stages.level ??= now();
    if (outlined) stages.ranking ??= now();
    if (stage === 'settling' || state === 'done') {
      stages.index ??= now();
      stages.indexMemory ??= peakOf(app.workerPid);
    }
    if (state === 'done') stages.settled ??= now();
    if (over) {
      stages.words = now();
      stages.memory = peakOf(app.workerPid);
    }
    await sleep(15);
  }
  return {
    begun: 0,
    level: 0,
    ranking: 0,
    index: 0,
    settled: 0,
    words: 0,
    indexMemory: 0,
    memory: 0,
    ...stages,
  } as Stages;
}

function peakOf(pid: number | undefined): number {
  return Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
}

async function libraryFetch(dovecot: Dovecot, folders: readonly string[]): Promise<number> {
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  const query = { uid: true, flags: true, size: true, internalDate: true, envelope: true, bodyStructure: true };
  const { seconds } = await timed(async () => {
    for (const name of folders) {
      await client.mailboxOpen(`INBOX.${name}`);
      for await (const _ of client.fetch('1:*', query)) {
        // Thrown away.
      }
    }
  });
  await client.logout();
  return seconds;
}

async function main(): Promise<void> {
  const dovecot = await startDovecot(200_000);
  const folders = fill(dovecot);
  const bare = await Bare.open(dovecot);
  // Dovecot builds its caches at the first look, which is no part of what is compared.
  for (const name of folders) {
    await bare.command(`SELECT INBOX.${name}`);
    await bare.command(`FETCH 1:* (${METADATA})`);
    await bare.command(`FETCH 1:* (${AUTHORS})`);
    await bare.command(`STATUS INBOX.${name} (MESSAGES SIZE HIGHESTMODSEQ)`);
  }
  await bare.command('GETQUOTAROOT INBOX');
  bare.close();
  const full = await drained(dovecot, folders, METADATA);
  const authors = await drained(dovecot, folders, AUTHORS);

  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const asked = Date.now();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  const stages = await watched(app, account, asked);
  const second = await timed(() => app.scanned(account, true));
  const { rows } = await app.database.query('select count(*)::int as count from placement');
  const both = full.seconds + authors.seconds;
  printResults([
    {
      'messages in the index': rows[0].count,
      'bare drain of all metadata, s': rounded(full.seconds),
      'bare drain of all metadata, MB': rounded(full.octets / 1e6),
      'bare drain of size, date, flags and From, s': rounded(authors.seconds),
      'bare drain of these, MB': rounded(authors.octets / 1e6),
      'worker begins, s after signing in': rounded(stages.begun),
      'level and folders compared, s': rounded(stages.level),
      'first ranking, s': rounded(stages.ranking),
      'first ranking / its bare drain': rounded(stages.ranking / authors.seconds),
      'the same without the level': rounded((stages.ranking - stages.level) / authors.seconds),
      'index whole with its B-trees, s': rounded(stages.index),
      'index whole / bare drain of both': rounded(stages.index / both),
      'details alone / bare drain of all metadata': rounded((stages.index - stages.ranking) / full.seconds),
      'threads and categories told, s more': rounded(stages.settled - stages.index),
      'settled / bare drain of both': rounded(stages.settled / both),
      'words indexed behind it, s more': rounded(stages.words - stages.settled),
      'second scan with nothing changed, s': rounded(second.seconds),
      'peak memory of the worker until the index is whole, MB': rounded(stages.indexMemory),
      'peak memory of the worker, MB': rounded(stages.memory),
      ...(values.library ? { 'the general library’s FETCH, s': rounded(await libraryFetch(dovecot, folders)) } : {}),
    },
  ]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
