import { execFileSync } from 'node:child_process';
import { linkSync, mkdirSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { fillBig } from '../test/big-folder';
import { DOVECOT_OPERATOR, DOVECOT_PASSWORD, type Dovecot, startDovecot } from '../test/dovecot';
import { App, cleanUp } from '../test/harness';
import { Bare, timed } from './bare';
import { printResults, rounded } from './measure';

/**
 * Many mailboxes on one Dovecot: measured, scanned by a round, and one standing lot carried out on all, beside bare connections that
 * do the same, as many at a time. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    mailboxes: { type: 'string', default: '1000' },
    messages: { type: 'string', default: '1000' },
    workers: { type: 'string', default: '1' },
  },
});
const [MAILBOXES, MESSAGES, WORKERS] = [values.mailboxes, values.messages, values.workers].map(Number) as [
  number,
  number,
  number,
];
/** Connections at a time, as jobs of one host are. */
const CONNECTIONS = 8;
const METADATA =
  'UID FLAGS INTERNALDATE RFC822.SIZE ENVELOPE BODYSTRUCTURE BODY.PEEK[HEADER.FIELDS (LIST-ID REFERENCES)]';

/** Gives every mailbox the messages of the first, as links. */
function fill(dovecot: Dovecot, names: readonly string[]): void {
  fillBig(dovecot, 'INBOX', MESSAGES);
  const files = readdirSync(join(dovecot.maildir, 'cur'));
  const base = dirname(dirname(dovecot.maildir));
  for (const name of names) {
    const maildir = join(base, `mail-${name}`, 'Maildir');
    for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(maildir, part), { recursive: true });
    for (const file of files) linkSync(join(dovecot.maildir, 'cur', file), join(maildir, 'cur', file));
    execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, join(base, `mail-${name}`)]);
  }
}

/** Seconds that bare connections take for the same commands in every mailbox. */
async function bare(dovecot: Dovecot, names: readonly string[], commands: readonly string[]): Promise<number> {
  const left = [...names];
  const { seconds } = await timed(() =>
    Promise.all(
      Array.from({ length: CONNECTIONS }, async () => {
        for (let user = left.pop(); user !== undefined; user = left.pop()) {
          const client = await Bare.open(dovecot, { user, password: DOVECOT_PASSWORD });
          for (const command of commands) await client.command(command);
          client.close();
        }
      }),
    ),
  );
  return seconds;
}

async function until(holds: () => Promise<boolean>): Promise<void> {
  while (!(await holds())) await sleep(200);
}

async function main(): Promise<void> {
  const names = Array.from({ length: MAILBOXES }, (_, index) => `plot${index}`);
  const dovecot = await startDovecot(1_000, [], undefined, undefined, '', names);
  fill(dovecot, names);
  const quota = [
    'GETQUOTAROOT INBOX',
    'LIST "" "*" RETURN (SPECIAL-USE STATUS (MESSAGES SIZE UIDNEXT))',
    'STATUS INBOX (UNSEEN)',
  ];
  // Once for nothing: Dovecot makes its indexes.
  await bare(dovecot, names, ['SELECT INBOX', `UID FETCH 1:* (${METADATA})`, ...quota]);
  const measuredBare = await bare(dovecot, names, quota);
  const scannedBare = await bare(dovecot, names, ['SELECT INBOX', `UID FETCH 1:* (${METADATA})`]);

  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6', TAMSEL_MAX_ACCOUNTS_PER_OPERATOR: '100000' } });
  for (let worker = 1; worker < WORKERS; worker++) app.addWorker();
  const at = { host: '127.0.0.1', port: dovecot.plainPort, security: 'none', daily: true };
  const signedIn = await app.call('POST', '/operators', { ...at, ...DOVECOT_OPERATOR, mailbox: names[0] });
  app.keepCookies(signedIn.headers);
  const base = `/operators/${signedIn.body.operator.id}`;
  await app.call('POST', `${base}/sheet`, { sheet: ['address', ...names].join('\n'), apply: true });
  const measuring = async () => (await app.call('GET', `${base}/mailboxes`)).body.measuring === 0;
  await until(measuring);
  const measured = await timed(async () => {
    await app.call('POST', `${base}/measurements`, {});
    await until(measuring);
  });

  const { mailboxes } = (await app.call('GET', `${base}/mailboxes`)).body;
  const round = {
    kind: 'standing',
    reason: 'A measurement.',
    mailboxes: mailboxes.map(({ id }: { id: number }) => id),
    terms: {
      label: 'What was read',
      where: 'seen',
      rhythm: { unit: 'day', every: 1, day: null, from: '2026-01-01', at: '03:00' },
    },
  };
  let path = '';
  const state = async () => (await app.call('GET', path)).body.round;
  const scanned = await timed(async () => {
    const made = await app.call('POST', `${base}/rounds`, round);
    if (made.status !== 201) throw new Error(JSON.stringify(made.body));
    path = `${base}/rounds/${made.body.round.id}`;
    await until(async () => (await state()).state === 'asking');
  });
  const { asked, states } = await state();
  if (states.ready !== MAILBOXES) {
    const all = (await app.call('GET', path)).body.mailboxes;
    throw new Error(JSON.stringify(all.filter((each: { state: string }) => each.state !== 'ready').slice(0, 5)));
  }
  await app.call('POST', `${path}/carry-out`, { expect: asked });
  await until(async () => (await state()).state === 'ended');
  const carried = await timed(async () => {
    await app.database.query('update standing_lot set next_at = now()');
    await until(async () => {
      const { rows } = await app.database.query(
        `select count(*)::int as done from standing_date where state in ('done', 'failed')`,
      );
      return rows[0].done === MAILBOXES;
    });
  });
  const { rows } = await app.database.query('select sum(done_messages)::int as moved from run');
  if (rows[0].moved !== asked.messages) throw new Error(`${rows[0].moved} of ${asked.messages} were moved`);
  // As many others, by their numbers: those that were flagged as read went.
  const rest = Array.from({ length: MESSAGES }, (_, index) => index + 1).filter((uid) => uid % 3 === 2);
  const movedBare = await bare(dovecot, names, ['SELECT INBOX', `UID MOVE ${rest.join(',')} INBOX.Trash`]);
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  printResults([
    {
      mailboxes: MAILBOXES,
      'messages in each': MESSAGES,
      workers: WORKERS,
      'measured again, s': rounded(measured.seconds),
      'measured / bare': rounded(measured.seconds / measuredBare),
      'opened, scanned and tried, s': rounded(scanned.seconds),
      'messages a second': Math.round((MAILBOXES * MESSAGES) / scanned.seconds),
      'scanned / bare': rounded(scanned.seconds / scannedBare),
      'standing lot carried out on all, s': rounded(carried.seconds),
      'messages moved': asked.messages,
      'carried out / bare MOVE': rounded(carried.seconds / movedBare),
      'memory of a worker, MB': Math.round(peak),
    },
  ]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
