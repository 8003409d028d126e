import { execFileSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createConnection, type Socket } from 'node:net';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { HEADER_FIELDS } from '../src/mail/imap/record';
import { scenario } from '../stand-in/scenario/mailbox';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot, startDovecot } from '../test/dovecot';
import { App, cleanUp, DAY } from '../test/harness';

/**
 * Scan and run against Debian's Dovecot on loopback, each beside the bare protocol on the same server in the same run.
 * Prints a table, and the same as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({ options: { messages: { type: 'string', default: '20000' } } });
const COUNT = Number(values.messages);

/** Puts messages into a folder as files: APPEND would take longer than all that is measured. */
function fillFolder(dovecot: Dovecot, folder: string, messages: { write(): Buffer }[]): void {
  const root = folder === 'INBOX' ? dovecot.maildir : join(dovecot.maildir, `.${folder}`);
  for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(root, part), { recursive: true });
  for (const [index, message] of messages.entries())
    writeFileSync(join(root, 'cur', `${1_600_000_000 + index}.M${index}.bench:2,S`), message.write());
}

/** Octets of the longest tagged answer: that to LOGIN lists all capabilities. */
const LONGEST_LINE = 4_000;

/** A socket that sends commands and throws the answers away. */
class Bare {
  private tag = 0;
  private constructor(private readonly socket: Socket) {}

  static async open(dovecot: Dovecot): Promise<Bare> {
    const socket = createConnection(dovecot.plainPort, '127.0.0.1');
    await new Promise((resolve) => socket.once('data', resolve));
    const bare = new Bare(socket);
    await bare.command(`LOGIN ${DOVECOT_USER} ${DOVECOT_PASSWORD}`);
    return bare;
  }

  /** Gives the octets of the answer. */
  command(text: string): Promise<number> {
    const tag = `t${++this.tag}`;
    this.socket.write(`${tag} ${text}\r\n`);
    return new Promise((resolve, reject) => {
      let octets = 0;
      let tail = '';
      const hear = (chunk: Buffer) => {
        octets += chunk.length;
        tail = (tail + chunk.toString('latin1', Math.max(0, chunk.length - LONGEST_LINE))).slice(-LONGEST_LINE);
        const end = new RegExp(`(?:^|\\n)${tag} (OK|NO|BAD)[^\\n]*\\n$`).exec(tail);
        if (!end) return;
        this.socket.off('data', hear);
        if (end[1] === 'OK') resolve(octets);
        else reject(new Error(end[0]));
      };
      this.socket.on('data', hear);
    });
  }

  close(): void {
    this.socket.destroy();
  }
}

async function timed<T>(act: () => Promise<T>): Promise<{ seconds: number; result: T }> {
  const started = process.hrtime.bigint();
  const result = await act();
  return { seconds: Number(process.hrtime.bigint() - started) / 1e9, result };
}

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

  const lot = (await app.call('POST', `${account}/lots`, { where: 'folder = Ours' })).body;
  const run = await timed(() => app.ran(account, { action: 'trash', lots: [lot.id] }));
  await bare.command('SELECT INBOX.Bare');
  const move = await timed(() => bare.command('UID MOVE 1:* INBOX.Trash'));
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
  bare.close();

  const total = folders.Ours.length + folders.Bare.length;
  const rounded = (number: number) => Number(number.toPrecision(3));
  const figures = {
    server: 'dovecot',
    messages: total,
    'bare drain, s (median of 3)': rounded(drain.seconds),
    'bare drain, MB': rounded(drain.octets / 1e6),
    'scan, s': rounded(scan.seconds),
    'scan, messages a second': rounded(total / scan.seconds),
    'scan / bare drain': rounded(scan.seconds / drain.seconds),
    'second scan with nothing changed, s': rounded(second.seconds),
    'run to the trash, messages': run.result.done.messages,
    'run, s': rounded(run.seconds),
    'run, messages a second': rounded(run.result.done.messages / run.seconds),
    'bare UID MOVE of as many, s': rounded(move.seconds),
    'run / bare UID MOVE': rounded(run.seconds / move.seconds),
    'peak memory of the worker, MB': rounded(peak),
  };
  process.stdout.write(`${JSON.stringify(figures)}\n\n`);
  for (const [name, figure] of Object.entries(figures))
    process.stdout.write(`${name.padEnd(40)}${String(figure).padStart(12)}\n`);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
