import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { parseArgs } from 'node:util';
import { HEADER_FIELDS } from '../src/mail/imap/record';
import { scenario } from '../stand-in/scenario/mailbox';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillFolder, startDovecot } from '../test/dovecot';
import { App, cleanUp, DAY } from '../test/harness';
import { Bare, timed } from './bare';
import { printResults, rounded } from './measure';

/**
 * The scan against Debian's Dovecot on loopback, beside the bare protocol on the same server in the same run.
 * Prints a table, and the same as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({ options: { messages: { type: 'string', default: '20000' } } });
const COUNT = Number(values.messages);

const METADATA = `(UID FLAGS INTERNALDATE RFC822.SIZE ENVELOPE BODYSTRUCTURE BODY.PEEK[HEADER.FIELDS (${HEADER_FIELDS.join(' ')})])`;

async function main(): Promise<void> {
  const small = scenario(DAY, 'full').messages.filter(({ item }) => item.size < 60_000);
  const messages = small.slice(0, COUNT).map(({ item }) => item);
  const half = Math.ceil(messages.length / 2);
  const folders = { Ours: messages.slice(0, half), Bare: messages.slice(0, half) };
  const dovecot = await startDovecot(20_000);
  for (const [name, items] of Object.entries(folders)) fillFolder(dovecot, name, items);
  execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  const bare = await Bare.open(dovecot);
  // Dovecot builds its caches at the first look, which is no part of what is compared.
  for (const name of Object.keys(folders)) {
    await bare.command(`SELECT INBOX.${name}`);
    await bare.command(`FETCH 1:* ${METADATA}`);
  }
  const drains: { seconds: number; octets: number }[] = [];
  for (let turn = 0; turn < 3; turn++) {
    const { seconds, result } = await timed(async () => {
      let octets = 0;
      for (const name of Object.keys(folders)) {
        await bare.command(`SELECT INBOX.${name}`);
        octets += await bare.command(`FETCH 1:* ${METADATA}`);
      }
      return octets;
    });
    drains.push({ seconds, octets: result });
  }
  const drain = drains.sort((a, b) => a.seconds - b.seconds)[1] as { seconds: number; octets: number };

  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  const scan = await timed(() => app.scanned(account));
  const second = await timed(() => app.scanned(account, true));

  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
  bare.close();

  const total = folders.Ours.length + folders.Bare.length;
  const figures = {
    server: 'dovecot',
    messages: total,
    'bare drain, s (median of 3)': rounded(drain.seconds),
    'bare drain, MB': rounded(drain.octets / 1e6),
    'scan, s': rounded(scan.seconds),
    'scan, messages a second': rounded(total / scan.seconds),
    'scan / bare drain': rounded(scan.seconds / drain.seconds),
    'second scan with nothing changed, s': rounded(second.seconds),
    'peak memory of the worker, MB': rounded(peak),
  };
  printResults([figures]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
