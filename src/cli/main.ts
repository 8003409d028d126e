import { spawn } from 'node:child_process';
import { join, resolve } from 'node:path';
import { parseArgs } from 'node:util';
import { api } from './api';
import { ensureBuilt } from './build';
import { EXIT, Stop } from './exits';
import { say } from './say';
import { serve } from './serve';
import { test } from './test';
import { verify } from './verify';

const HELP = `tamsel: measures what fills a mailbox, and wins the room back.

  ./tamsel demo           a made-up mailbox of about 100,000 messages, to try everything on
           --size small   5,000 messages instead
           --fresh        forget what was done, start over
           --every-message     the mailbox has a folder that repeats every message
  ./tamsel start          for a real mailbox
  ./tamsel worker         one more worker for a running instance (needs TAMSEL_DATABASE_URL, TAMSEL_KEY_FILE)
  ./tamsel api           asks a running Tamsel with a token: level, senders, lots, runs; ./tamsel api help
  ./tamsel verify        checks that the ledger is as it was written
           --user NAME   of one account; with --head FILE against a head that was kept
  ./tamsel test [part]    the tests: all, or one of check, unit, integration, browser
  ./tamsel help           this

Variables: TAMSEL_PORT (4321), TAMSEL_HOST (127.0.0.1), TAMSEL_DATA (.tamsel/), TAMSEL_DATABASE_URL; docs/operating.md has all.`;

const root = resolve(import.meta.dirname, '../..');

async function main(args: string[]): Promise<number> {
  const [command = 'help', ...rest] = args;
  switch (command) {
    case 'demo':
    case 'start':
      return run(command, rest);
    case 'worker':
      ensureBuilt(root);
      return foreground(['dist/worker/main.mjs']);
    case 'api':
      return api(rest);
    case 'verify':
      return verify(dataFolder(), verifyOptions(rest));
    case 'test':
      return test(root, rest);
    case 'help':
    case '--help':
      say(HELP);
      return 0;
  }
  throw new Stop(EXIT.usage, `There is no command ${command}; see ./tamsel help.`);
}

async function run(command: 'demo' | 'start', args: string[]): Promise<number> {
  const { size, fresh, everyMessage } = options(command, args);
  const port = Number(process.env.TAMSEL_PORT ?? 4321);
  const host = process.env.TAMSEL_HOST ?? '127.0.0.1';
  if (!Number.isInteger(port) || port < 1 || port > 65_535)
    throw new Stop(EXIT.usage, `TAMSEL_PORT is no port: ${process.env.TAMSEL_PORT}.`);
  const data = dataFolder();
  let told = () => {};
  const asked = new Promise<void>((resolve) => {
    told = resolve;
  });
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const) process.on(signal, () => told());
  const starting = serve({
    root,
    data,
    host,
    port,
    demo: command === 'demo' ? { size, everyMessage } : undefined,
    fresh,
  });
  // Told to stop while it starts, it finishes starting, then stops: nothing is left behind.
  const served = await starting;
  say(`\nTamsel is ready at http://${host.includes(':') ? `[${host}]` : host}:${port}/`);
  if (command === 'demo')
    say('The demo mailbox: secretary@saltmarshlane.example, password allotment (one press on the sign-in page).');
  say('Ctrl-C stops it.');
  await asked;
  say('\nStopping …');
  await served.stop();
  return 0;
}

function options(command: string, args: string[]): { size: 'full' | 'small'; fresh: boolean; everyMessage: boolean } {
  try {
    const { values } = parseArgs({
      args,
      options: {
        size: { type: 'string', default: 'full' },
        fresh: { type: 'boolean', default: false },
        'every-message': { type: 'boolean', default: false },
      },
    });
    if (values.size !== 'full' && values.size !== 'small') throw new Error('--size is full or small');
    if (command === 'start' && args.length > 0) throw new Error('start takes no options');
    return { size: values.size, fresh: values.fresh, everyMessage: values['every-message'] };
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel help.`);
  }
}

function dataFolder(): string {
  return resolve(process.env.TAMSEL_CALLED_FROM ?? root, process.env.TAMSEL_DATA ?? join(root, '.tamsel'));
}

function verifyOptions(args: string[]): { user: string | undefined; head: string | undefined } {
  try {
    const { user, head } = parseArgs({ args, options: { user: { type: 'string' }, head: { type: 'string' } } }).values;
    return { user, head: head && resolve(process.env.TAMSEL_CALLED_FROM ?? root, head) };
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
