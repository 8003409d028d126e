import { execFileSync } from 'node:child_process';
import { freePort } from '../../src/cli/cluster';
import { ROOT } from '../harness';
import { DOMAIN, listens, type MailHost, PASSWORD, pauseGroup, USER } from './mail-host';
import { UnpackedDebian } from './unpacked-debian';

/**
 * Debian's Cyrus IMAP with its own defaults: folders beside the inbox, parted by a slash, and rules whose folders are named in
 * modified UTF-7 (imapd.conf(5), `sieve_utf8fileinto`).
 *
 * @param proxies users that may sign in as any other, with the password of all.
 * @param others further users with a mailbox.
 */
export async function startCyrus(proxies: readonly string[] = [], others: readonly string[] = []): Promise<MailHost> {
  const debian = UnpackedDebian.with('cyrus', ['cyrus-imapd', 'sasl2-bin', 'libsasl2-modules-db']);
  const [port, sievePort, lmtpPort] = [await freePort(), await freePort(), await freePort()];
  debian.write('etc/passwd', 'root:x:0:0::/:/bin/sh\ncyrus:x:2000:8::/var/spool/cyrus:/bin/sh\n');
  debian.write('etc/group', 'root:x:0:\nmail:x:8:\n');
  debian.write(
    'etc/imapd.conf',
    `configdirectory: /var/lib/cyrus
partition-default: /var/spool/cyrus/mail
defaultpartition: default
admins: cyrus
allowplaintext: yes
sasl_pwcheck_method: auxprop
sasl_auxprop_plugin: sasldb
sasl_mech_list: PLAIN LOGIN
servername: localhost
virtdomains: userid
defaultdomain: ${DOMAIN}
sievedir: /var/spool/sieve
lmtp_downcase_rcpt: yes
${proxies.length > 0 ? `proxyservers: ${proxies.join(' ')}\n` : ''}`,
  );
  debian.write(
    'etc/cyrus.conf',
    `START {
  recover cmd="/usr/sbin/cyrus ctl_cyrusdb -r"
}
SERVICES {
  imap cmd="imapd" listen="127.0.0.1:${port}" prefork=0 maxchild=30
  sieve cmd="timsieved" listen="127.0.0.1:${sievePort}" prefork=0 maxchild=10
  lmtp cmd="lmtpd -a" listen="127.0.0.1:${lmtpPort}" prefork=0 maxchild=10
}
EVENTS {
}
`,
  );
  debian.shell(`for user in cyrus ${[USER, ...proxies, ...others].join(' ')}; do for realm in localhost ${DOMAIN}; do echo ${PASSWORD} | saslpasswd2 -p -c -u $realm $user; done; done
    mkdir -p /run/cyrus/socket /run/cyrus/proc /run/cyrus/lock /var/lib/cyrus/db /var/lib/cyrus/proc /var/spool/cyrus/mail /var/spool/sieve
    chmod 644 /etc/sasldb2
    chown -R 2000:8 /run/cyrus /var/lib/cyrus /var/spool/cyrus /var/spool/sieve /etc/sasldb2`);
  const master = debian.start([
    '/usr/lib/cyrus/bin/master',
    ...['-C', '/etc/imapd.conf', '-M', '/etc/cyrus.conf', '-p', '/run/cyrus/master.pid'],
  ]);
  await listens(port);
  const admin = (...commands: string[]) =>
    execFileSync('python3', [`${ROOT}/test/servers/commands.py`, `${port}`, 'cyrus', PASSWORD, ...commands]);
  for (const user of [USER, ...others]) admin(`CREATE user/${user}`, `SETQUOTA user/${user} (STORAGE 1000000)`);
  return {
    name: 'cyrus',
    port,
    user: `${USER}@${DOMAIN}`,
    password: PASSWORD,
    prefix: '',
    delimiter: '/',
    sievePort,
    lmtpPort,
    pause: (isPaused) => pauseGroup(master.pid, isPaused),
  };
}
