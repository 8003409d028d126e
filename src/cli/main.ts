import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline/promises';
import { parseArgs } from 'node:util';
import { EXIT, Stop } from './exits';
import { say } from './say';

const HELP = `tamsel: measures what fills a mailbox, and wins the room back.

  ./tamsel demo           a made-up mailbox of about 100,000 messages, to try everything on
           --size small   5,000 messages instead
           --fresh        forget what was done, start over; asks, unless --yes is said
           --every-message     the mailbox has a folder that repeats every message
  ./tamsel start          for a real mailbox
  ./tamsel worker         one more worker for a running instance (needs TAMSEL_DATABASE_URL, TAMSEL_KEY_FILE, TAMSEL_ARCHIVE_DIR)
  ./tamsel api           asks a running Tamsel with a token: level, senders, lots, runs; ./tamsel api help
  ./tamsel verify        checks that the ledger is as it was written
           --demo        of the demo's data
           --user NAME   of one account; with --head FILE against a head that was kept
  ./tamsel archive check reads every octet of the archive again; exit code 1 where anything differs, for cron
           --user NAME   of one account; --demo of the demo's data
  ./tamsel backup FOLDER  writes the database and the key; restore FOLDER makes an empty data folder of them and checks it
  ./tamsel build         builds the web server and the worker, and starts nothing
  ./tamsel schema --distributed   prints how a distributed PostgreSQL spreads the large tables; changes nothing
  ./tamsel test [part]    the tests: all, or some of check, unit, fast, security, integration, servers,
                          browser; or files; --long: the long trials; --name PATTERN: only tests of that name
  ./tamsel help           this; --version tells the version

Variables: TAMSEL_PORT (4321), TAMSEL_HOST (127.0.0.1), TAMSEL_DATA (.tamsel/, the demo's .tamsel-demo/), TAMSEL_DATABASE_URL; docs/operating.md has all.`;

const root = resolve(import.meta.dirname, '../..');

/** Each command loads only what it needs: a program that asks a running instance every minute starts in half of the time. */
async function main(args: string[]): Promise<number> {
  const [command = 'help', ...rest] = args;
  if (rest.some((word) => word === '--help' || word === '-h') && command !== 'api') {
    say(HELP);
    return 0;
  }
  switch (command) {
    case 'demo':
    case 'start':
      return run(command, rest);
    case 'worker':
      (await import('./build')).ensureBuilt(root);
      return foreground(['dist/worker/main.mjs']);
    case 'api':
      return (await import('./api')).api(rest);
    case 'verify': {
      const purpose = rest.includes('--demo') ? 'demo' : 'start';
      return (await import('./verify')).verify(dataFolder(purpose), purpose, verifyOptions(rest));
    }
    case 'archive': {
      const { words, user, demo } = archiveOptions(rest);
      if (words.join(' ') !== 'check') throw new Stop(EXIT.usage, 'Say ./tamsel archive check.');
      return (await import('./archive')).checkArchive(dataFolder(demo ? 'demo' : 'start'), user);
    }
    case 'backup':
    case 'restore': {
      const [folder, ...more] = rest.filter((word) => word !== '--demo');
      if (!folder || more.length > 0) throw new Stop(EXIT.usage, `Say which folder: ./tamsel ${command} FOLDER`);
      const path = resolve(process.env.TAMSEL_CALLED_FROM ?? root, folder);
      const purpose = rest.includes('--demo') ? 'demo' : 'start';
      const { backup, restore } = await import('./backup');
      if (command === 'restore') return restore(dataFolder(purpose), path, purpose);
      return backup(dataFolder(purpose), purpose, path, version());
    }
    case 'schema': {
      const words = rest.filter((word) => word !== '--demo');
      if (words.join(' ') !== '--distributed') throw new Stop(EXIT.usage, 'Say ./tamsel schema --distributed.');
      return (await import('./schema')).printDistribution(dataFolder(rest.includes('--demo') ? 'demo' : 'start'));
    }
    case 'build':
      (await import('./build')).ensureBuilt(root);
      return 0;
    case 'test':
      return (await import('./test')).test(root, rest);
    case 'help':
    case '--help':
    case '-h':
      say(HELP);
      return 0;
    case 'version':
    case '--version':
      say(`tamsel ${version()}`);
      return 0;
  }
  throw new Stop(EXIT.usage, `There is no command ${command}; see ./tamsel help.`);
}

function version(): string {
  return (JSON.parse(readFileSync(join(root, 'package.json'), 'utf8')) as { version: string }).version;
}

async function run(command: 'demo' | 'start', args: string[]): Promise<number> {
  const { size, fresh, everyMessage, yes } = options(command, args);
  const port = Number(process.env.TAMSEL_PORT || 4321);
  const host = process.env.TAMSEL_HOST || '127.0.0.1';
  if (!Number.isInteger(port) || port < 1 || port > 65_535)
    throw new Stop(EXIT.usage, `TAMSEL_PORT is no port: ${process.env.TAMSEL_PORT}.`);
  let told = () => {};
  const asked = new Promise<void>((resolve) => {
    told = resolve;
  });
  let ready = false;
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const)
    process.on(signal, () => {
      // Told to stop while it starts, it finishes starting, then stops: nothing is left behind.
      if (!ready) say('Stopping as soon as it has started …');
      told();
    });
  const { serve } = await import('./serve');
  const served = await serve({
    root,
    data: dataFolder(command),
    host,
    port,
    demo: command === 'demo' ? { size, everyMessage } : undefined,
    fresh,
    mayLose: (what) => (yes ? Promise.resolve(true) : answeredYes(what)),
  });
  ready = true;
  say(`\nTamsel is ready at http://${host.includes(':') ? `[${host}]` : host}:${port}/`);
  if (command === 'demo')
    say('The demo mailbox: secretary@saltmarshlane.example, password allotment (one press on the sign-in page).');
  say('Ctrl-C stops it.');
  try {
    await Promise.race([asked, served.failed]);
  } finally {
    say('\nStopping …');
    await served.stop();
  }
  return 0;
}

/** Asks a person; where there is none, it has to be said on the command line. */
async function answeredYes(what: string): Promise<boolean> {
  if (!process.stdin.isTTY) throw new Stop(EXIT.usage, `${what} Say --yes if that is meant.`);
  const asking = createInterface({ input: process.stdin, output: process.stdout });
  const answer = await asking.question(`${what} Type yes to go on: `);
  asking.close();
  return answer.trim().toLowerCase() === 'yes';
}

function options(
  command: string,
  args: string[],
): { size: 'full' | 'small'; fresh: boolean; everyMessage: boolean; yes: boolean } {
  try {
    const { values } = parseArgs({
      args,
      options: {
        size: { type: 'string', default: 'full' },
        fresh: { type: 'boolean', default: false },
        'every-message': { type: 'boolean', default: false },
        yes: { type: 'boolean', default: false },
      },
    });
    if (values.size !== 'full' && values.size !== 'small') throw new Error('--size is full or small');
    if (command === 'start' && args.length > 0) throw new Error('start takes no options');
    return { size: values.size, fresh: values.fresh, everyMessage: values['every-message'], yes: values.yes };
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel help.`);
  }
}

/** The demo's data is apart from what is real. */
function dataFolder(command: 'demo' | 'start'): string {
  const usual = join(root, command === 'demo' ? '.tamsel-demo' : '.tamsel');
  return resolve(process.env.TAMSEL_CALLED_FROM ?? root, process.env.TAMSEL_DATA || usual);
}

function verifyOptions(args: string[]): { user: string | undefined; head: string | undefined } {
  try {
    const { user, head } = parseArgs({
      args,
      options: { user: { type: 'string' }, head: { type: 'string' }, demo: { type: 'boolean' } },
    }).values;
    return { user, head: head && resolve(process.env.TAMSEL_CALLED_FROM ?? root, head) };
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel help.`);
  }
}

function archiveOptions(args: string[]): { words: string[]; user: string | undefined; demo: boolean } {
  try {
    const { values, positionals } = parseArgs({
      args,
      options: { user: { type: 'string' }, demo: { type: 'boolean', default: false } },
      allowPositionals: true,
    });
    return { words: positionals, ...values, user: values.user };
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel help.`);
  }
}

function foreground(args: string[]): Promise<number> {
  const child = spawn(process.execPath, args, { cwd: root, stdio: 'inherit' });
  for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => child.kill(signal));
  return new Promise((resolve) => child.once('exit', (code) => resolve(code ?? EXIT.failed)));
}

try {
  process.exitCode = await main(process.argv.slice(2));
} catch (error) {
  process.stderr.write(
    `tamsel: ${error instanceof Stop ? error.message : error instanceof Error ? (error.stack ?? error.message) : error}\n`,
  );
  process.exitCode = error instanceof Stop ? error.code : EXIT.failed;
}
process.exit();
