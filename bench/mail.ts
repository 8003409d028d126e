import { execFileSync } from 'node:child_process';
import { parseArgs } from 'node:util';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillFolder, startDovecot } from '../test/dovecot';
import { letter, octetsOf } from '../test/fast/letters';
import { App, cleanUp, until } from '../test/harness';
import { Bare, timed } from './bare';
import { limitedLine } from './limited-line';
import { median, printResults, rounded } from './measure';

/**
 * Whole messages saved as mbox files and read back, against Debian's Dovecot on loopback, beside a bare FETCH of the same
 * messages on the same server in the same run. Prints a table, and the same as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    messages: { type: 'string', default: '20000' },
    /** Octets of the file that each letter has. */
    octets: { type: 'string', default: '12000' },
    turns: { type: 'string', default: '3' },
    /** Octets a second of the line between us and the server; 0 is as fast as loopback is. */
    line: { type: 'string', default: '0' },
    /** Each connection has such a line of its own. */
    each: { type: 'boolean', default: false },
  },
});
const COUNT = Number(values.messages);

async function main(): Promise<void> {
  const dovecot = await startDovecot(20_000);
  const mails = Array.from({ length: COUNT }, (_, at) => ({
    write: () => letter(`letter ${at}`, [{ name: `plan-${at}.pdf`, octets: octetsOf(Number(values.octets), at) }]),
  }));
  fillFolder(dovecot, 'Ours', mails);
  execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  const speed = Number(values.line);
  const port = speed > 0 ? (await limitedLine(dovecot.plainPort, speed, values.each)).port : dovecot.plainPort;
  const bare = await Bare.open({ plainPort: port });
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const account = await app.signIn({ port, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  await bare.command('SELECT INBOX.Ours');
  const ours: number[] = [];
  const theirs: number[] = [];
  for (let turn = 0; turn < Number(values.turns); turn++) {
    ours.push((await timed(() => saved(app, account))).seconds);
    theirs.push((await timed(() => bare.command('FETCH 1:* BODY.PEEK[]'))).seconds);
  }
  bare.close();
  printResults([
    {
      server: 'dovecot',
      messages: COUNT,
      'octets a file': Number(values.octets),
      [values.each ? 'each connection, MB/s' : 'line, MB/s']: speed > 0 ? rounded(speed / 1e6) : 'loopback',
      'save and check, s (median)': rounded(median(ours)),
      'bare FETCH of all, s (median)': rounded(median(theirs)),
      'save / bare': rounded(median(ours) / median(theirs)),
    },
  ]);
  await cleanUp();
  process.exit();
}

async function saved(app: App, account: string): Promise<void> {
  const body = { place: 'here', what: 'mail', where: 'folder = Ours' };
  const { id } = (await app.call('POST', `${account}/bags`, body)).body;
  await until(async () => {
    const { state, checked } = (await app.call('GET', `${account}/bags/${id}`)).body;
    if (state === 'done' && checked.files !== COUNT) throw new Error(`${checked.files} of ${COUNT} were checked`);
    return state === 'done';
  }, 900);
}

await main();
