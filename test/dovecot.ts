import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { chmodSync, chownSync, existsSync, mkdirSync, writeFileSync } from 'node:fs';
import { createConnection } from 'node:net';
import { join } from 'node:path';
import { freePort } from '../src/cli/cluster';
import { certificates } from '../stand-in/certificates';
import { later, temporaryFolder, until } from './harness';

/** Debian's Dovecot on loopback with a private state, one user, and a quota of its own. */
export interface Dovecot {
  plainPort: number;
  tlsPort: number;
  authority: string;
  /** The user's Maildir and its owner, for those who bring mail in bulk. */
  maildir: string;
  owner: { uid: number; gid: number };
}

export const DOVECOT_USER = 'secretary';
export const DOVECOT_PASSWORD = 'allotment';

/** @param quotaMiB the limit of STORAGE. */
export async function startDovecot(quotaMiB: number): Promise<Dovecot> {
  const base = temporaryFolder();
  chmodSync(base, 0o755);
  const made = await certificates(undefined);
  for (const [name, text] of [
    ['cert.pem', made.certificate],
    ['key.pem', made.key],
  ] as const)
    writeFileSync(join(base, name), text, { mode: 0o600 });
  const root = process.getuid?.() === 0;
  const owner = root ? 'mail' : execFileSync('id', ['-un'], { encoding: 'utf8' }).trim();
  const [uid, gid] = ['-u', '-g'].map((flag) => Number(execFileSync('id', [flag, owner], { encoding: 'utf8' }))) as [
    number,
    number,
  ];
  const mail = join(base, 'mail');
  mkdirSync(mail);
  if (root) chownSync(mail, uid, gid);
  const [plainPort, tlsPort] = [await freePort(), await freePort()];
  writeFileSync(
    join(base, 'users'),
    `${DOVECOT_USER}:{PLAIN}${DOVECOT_PASSWORD}:${uid}:${gid}::${mail}::userdb_quota_rule=*:storage=${quotaMiB}M\n`,
  );
  writeFileSync(join(base, 'dovecot.conf'), configuration(base, owner, plainPort, tlsPort));
  const server = spawn('/usr/sbin/dovecot', ['-F', '-c', join(base, 'dovecot.conf')], { stdio: 'ignore' });
  later(() => stopped(server));
  await until(() => answers(plainPort), 20);
  return { plainPort, tlsPort, authority: made.authority, maildir: join(mail, 'Maildir'), owner: { uid, gid } };
}

function configuration(base: string, owner: string, plainPort: number, tlsPort: number): string {
  const inner =
    existsSync('/etc/passwd') && process.getuid?.() === 0
      ? ''
      : `default_internal_user = ${owner}\ndefault_login_user = ${owner}\n`;
  return `
base_dir = ${base}/run
state_dir = ${base}/state
log_path = ${base}/dovecot.log
protocols = imap
listen = 127.0.0.1
${inner}disable_plaintext_auth = no
ssl = yes
ssl_cert = <${base}/cert.pem
ssl_key = <${base}/key.pem
mail_location = maildir:~/Maildir
first_valid_uid = 1
mail_max_userip_connections = 50
mail_plugins = quota
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
service anvil {
  chroot =
}
service stats {
  chroot =
}
`;
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
