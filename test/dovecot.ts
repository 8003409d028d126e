import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { chmodSync, chownSync, mkdirSync, writeFileSync } from 'node:fs';
import { createConnection } from 'node:net';
import { join } from 'node:path';
import { ImapFlow } from 'imapflow';
import { freePort } from '../src/cli/cluster';
import { certificates } from '../stand-in/certificates';
import type { Scenario } from '../stand-in/scenario/mailbox';
import { later, temporaryFolder, until } from './harness';
import { pauseGroup } from './servers/mail-host';

/** Debian's Dovecot on loopback with a private state, one user, and a quota of its own. */
export interface Dovecot {
  plainPort: number;
  tlsPort: number;
  authority: string;
  /** The user's Maildir and its owner, for those who bring mail in bulk. */
  maildir: string;
  owner: { uid: number; gid: number };
  /** Of its configuration, for programs that deliver. */
  configuration: string;
  /** Where ManageSieve listens; 0 where it has no rules. */
  sievePort: number;
  /** Stops all its processes in the midst of what they do, or lets them go on. */
  pause(isPaused: boolean): void;
}

export const DOVECOT_USER = 'secretary';
export const DOVECOT_PASSWORD = 'allotment';
/** Who may look after the mailboxes of others there. */
export const DOVECOT_OPERATOR = { user: 'warden', password: 'keys and lists' };

/**
 * @param quotaMiB the limit of STORAGE.
 * @param hide capabilities that it does not offer, though it has them.
 * @param introspection where it may ask about access tokens (RFC 7662), with a name and a password.
 * @param rules whether it runs Sieve on delivery, and takes scripts over ManageSieve; with `-include`, without that extension.
 * @param further settings.
 * @param others names of further users, with the same password and quota.
 */
export async function startDovecot(
  quotaMiB: number,
  hide: readonly string[] = [],
  introspection?: string,
  rules?: 'all' | '-include',
  further = '',
  others: readonly string[] = [],
): Promise<Dovecot> {
  const base = temporaryFolder();
  chmodSync(base, 0o755);
  const made = await certificates(undefined);
  for (const [name, text] of [
    ['cert.pem', made.certificate],
    ['key.pem', made.key],
  ] as const)
    writeFileSync(join(base, name), text, { mode: 0o600 });
  const root = process.getuid?.() === 0;
  const { owner, uid, gid } = mailOwner();
  const mail = join(base, 'mail');
  mkdirSync(mail);
  if (root) chownSync(mail, uid, gid);
  const [plainPort, tlsPort, sievePort] = [await freePort(), await freePort(), rules ? await freePort() : 0];
  const users = join(base, 'users');
  const line = (name: string, home: string, mib: number) =>
    `${name}:{PLAIN}${DOVECOT_PASSWORD}:${uid}:${gid}::${home}::userdb_quota_rule=*:storage=${mib}M\n`;
  const homeOf = (name: string) => {
    const home = join(base, `mail-${name}`);
    mkdirSync(home);
    if (root) chownSync(home, uid, gid);
    return home;
  };
  writeFileSync(
    users,
    [line(DOVECOT_USER, mail, quotaMiB), ...others.map((name) => line(name, homeOf(name), quotaMiB))].join(''),
  );
  writeFileSync(join(base, 'operators'), `${DOVECOT_OPERATOR.user}:{PLAIN}${DOVECOT_OPERATOR.password}\n`);
  const file = join(base, 'dovecot.conf');
  const start = async (more: string) => {
    const forTokens = introspection ? takingTokens(base, introspection) : '';
    const forRules = rules ? withRules(sievePort, rules) : '';
    writeFileSync(file, configuration(base, owner, plainPort, tlsPort) + forTokens + forRules + further + more);
    const server = spawn('/usr/sbin/dovecot', ['-F', '-c', file], { stdio: 'ignore', detached: true });
    await until(() => answers(plainPort));
    return server;
  };
  let server = await start('');
  later(() => stopped(server));
  if (hide.length > 0) {
    const offered = (await capabilities(plainPort)).filter((capability) => !hide.includes(capability));
    await stopped(server);
    server = await start(`imap_capability = ${offered.join(' ')}\n`);
  }
  return {
    plainPort,
    tlsPort,
    sievePort,
    pause: (isPaused) => pauseGroup(server.pid, isPaused),
    authority: made.authority,
    maildir: join(mail, 'Maildir'),
    owner: { uid, gid },
    configuration: file,
  };
}

/** What it offers once one is signed in. */
async function capabilities(port: number): Promise<string[]> {
  const client = dovecotClient(port);
  await client.connect();
  const offered = [...client.capabilities.keys()];
  await client.logout();
  return offered;
}

/** A client of its own kind beside Tamsel. */
export function dovecotClient(port: number, user = DOVECOT_USER): ImapFlow {
  return new ImapFlow({
    host: '127.0.0.1',
    port,
    secure: false,
    doSTARTTLS: false,
    auth: { user, pass: DOVECOT_PASSWORD },
    logger: false,
  });
}

/** Brings part of a scenario's mail to Dovecot, into folders of the same names. */
export async function fillDovecot(dovecot: Dovecot, scenario: Scenario): Promise<number> {
  const client = dovecotClient(dovecot.plainPort);
  await client.connect();
  const wanted = new Set(['INBOX', 'Offers', 'Photographs', 'Märkte & Feste', 'Committee/Site plans', 'Sent']);
  const some = scenario.messages.filter(
    ({ folder, item }, index) =>
      wanted.has(folder) && item.size < 4_000_000 && (index % 5 === 0 || folder.startsWith('M')),
  );
  for (const name of wanted)
    if (name !== 'INBOX' && name !== 'Sent') await client.mailboxCreate(name.replaceAll('/', '.'));
  for (const { folder, item, received, seen, keywords = [] } of some) {
    const flags = [...(seen ? ['\\Seen'] : []), ...keywords];
    await client.append(folder.replaceAll('/', '.'), item.write(), flags, new Date(received * 1000));
  }
  await client.logout();
  return some.length;
}

/** Puts messages into a folder as files, for where APPEND would take longer than what is measured. */
export function fillFolder(dovecot: Dovecot, folder: string, messages: { write(): Buffer }[]): void {
  const root = folder === 'INBOX' ? dovecot.maildir : join(dovecot.maildir, `.${folder}`);
  for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(root, part), { recursive: true });
  for (const [index, message] of messages.entries())
    writeFileSync(join(root, 'cur', `${1_600_000_000 + index}.M${index}.bench:2,S`), message.write());
}

function configuration(base: string, owner: string, plainPort: number, tlsPort: number): string {
  // Whoever is not root can give nothing to other users, and can't chroot.
  const group = execFileSync('id', ['-gn'], { encoding: 'utf8' }).trim();
  const inner =
    process.getuid?.() === 0
      ? ''
      : `default_internal_user = ${owner}
default_login_user = ${owner}
default_internal_group = ${group}
service anvil {
  chroot =
}
service imap-login {
  chroot =
}
`;
  return `
base_dir = ${base}/run
state_dir = ${base}/state
log_path = ${base}/dovecot.log
# The map of a folder of a million messages is larger than the default.
default_vsz_limit = 4G
protocols = imap
listen = 127.0.0.1
${inner}disable_plaintext_auth = no
auth_mechanisms = plain login scram-sha-256
ssl = yes
ssl_cert = <${base}/cert.pem
ssl_key = <${base}/key.pem
mail_location = maildir:~/Maildir
first_valid_uid = 1
mail_max_userip_connections = 50
mail_plugins = quota
passdb {
  driver = passwd-file
  args = ${base}/operators
  master = yes
}
passdb {
  driver = passwd-file
  args = ${base}/users
}
userdb {
  driver = passwd-file
  args = ${base}/users
}
plugin {
  quota = count:User quota
  quota_vsizes = yes
}
protocol imap {
  mail_plugins = quota imap_quota
}
namespace inbox {
  inbox = yes
  separator = .
  prefix = INBOX.
  mailbox Trash {
    auto = create
    special_use = \\Trash
  }
  mailbox Sent {
    auto = create
    special_use = \\Sent
  }
}
service imap-login {
  chroot =
  inet_listener imap {
    port = ${plainPort}
  }
  inet_listener imaps {
    port = ${tlsPort}
    ssl = yes
  }
}
# Who is refused is not made to wait.
auth_failure_delay = 0
service anvil {
  chroot =
  unix_listener anvil-auth-penalty {
    mode = 0
  }
}
service stats {
  chroot =
}
`;
}

/** Settings by which it runs rules, and takes them over the wire. */
function withRules(port: number, rules: 'all' | '-include'): string {
  return `protocols = imap sieve
# One signs in by the whole address, too.
auth_username_format = %Ln
postmaster_address = postmaster@saltmarshlane.example
hostname = store.saltmarshlane.example
service managesieve-login {
  chroot =
  inet_listener sieve {
    port = ${port}
  }
}
plugin {
  sieve = file:~/sieve;active=~/.dovecot.sieve
${rules === '-include' ? '  sieve_extensions = -include\n' : ''}}
protocol lda {
  mail_plugins = quota sieve
}
`;
}

/** Has Dovecot deliver a message, as from outside. */
export async function deliverTo({ configuration: file }: Dovecot, octets: Buffer): Promise<void> {
  const args = ['-c', file, '-d', DOVECOT_USER, '-f', 'sender@outside.example'];
  const agent = spawn('/usr/lib/dovecot/dovecot-lda', args, { stdio: ['pipe', 'ignore', 'inherit'] });
  agent.stdin.end(octets);
  const [code] = (await once(agent, 'exit')) as [number | null];
  if (code !== 0) throw new Error(`dovecot-lda ended with ${code}`);
}

/** Settings by which it takes access tokens that somebody else vouches for. */
function takingTokens(base: string, introspection: string): string {
  writeFileSync(
    join(base, 'tokens.conf'),
    `introspection_mode = post
introspection_url = ${introspection}
username_attribute = sub
active_attribute = active
active_value = true
`,
  );
  return `auth_mechanisms = plain login scram-sha-256 oauthbearer xoauth2
passdb {
  driver = oauth2
  mechanisms = oauthbearer xoauth2
  args = ${base}/tokens.conf
}
`;
}

/** Settings with which Dovecot's interpreter of Sieve tries rules in a folder, as a user that it lets use mail. */
export function sieveSettings(folder: string): string {
  const { owner, uid, gid } = mailOwner();
  const mail = join(folder, 'mail');
  mkdirSync(mail);
  chmodSync(folder, 0o755);
  if (process.getuid?.() === 0) chownSync(mail, uid, gid);
  const file = join(folder, 'sieve.conf');
  writeFileSync(
    file,
    `mail_location = maildir:${mail}\nmail_home = ${mail}\nmail_uid = ${owner}\nmail_gid = ${gid}\nfirst_valid_uid = 1\nfirst_valid_gid = 1\nlog_path = ${mail}/log\n`,
  );
  return file;
}

/** Who owns the mail: a user of the system's for root, else whoever runs this. */
function mailOwner(): { owner: string; uid: number; gid: number } {
  const owner = process.getuid?.() === 0 ? 'mail' : execFileSync('id', ['-un'], { encoding: 'utf8' }).trim();
  const id = (flag: string) => Number(execFileSync('id', [flag, owner], { encoding: 'utf8' }));
  return { owner, uid: id('-u'), gid: id('-g') };
}

function answers(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = createConnection(port, '127.0.0.1');
    socket.once('data', () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => resolve(false));
    socket.once('close', () => resolve(false));
  });
}

async function stopped(server: ChildProcess): Promise<void> {
  if (server.exitCode !== null) return;
  const gone = new Promise((resolve) => server.once('exit', resolve));
  server.kill('SIGTERM');
  await gone;
}
