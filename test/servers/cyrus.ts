import { execFileSync } from 'node:child_process';
import { once } from 'node:events';
import { ROOT } from '../harness';
import { BareDebian } from './bare-debian';
import { listens, type MailHost, PASSWORD, USER } from './mail-host';

/**
 * Debian's Cyrus IMAP with its own defaults: folders beside the inbox, parted by a slash.
 *
 * @param proxies users that may sign in as any other, with the password of all.
 * @param others further users with a mailbox.
 */
export async function startCyrus(
  port: number,
  proxies: readonly string[] = [],
  others: readonly string[] = [],
): Promise<MailHost> {
  const debian = BareDebian.with('cyrus', ['cyrus-imapd', 'sasl2-bin', 'libsasl2-modules-db']);
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
proxyservers: ${proxies.join(' ')}
`,
  );
  debian.write(
    'etc/cyrus.conf',
    `START {
  recover cmd="/usr/sbin/cyrus ctl_cyrusdb -r"
}
SERVICES {
  imap cmd="imapd" listen="127.0.0.1:${port}" prefork=0 maxchild=30
}
EVENTS {
}
`,
  );
  debian.shell(`for user in cyrus ${[USER, ...proxies, ...others].join(' ')}; do echo ${PASSWORD} | saslpasswd2 -p -c -u localhost $user; done
    chown cyrus:sasl /etc/sasldb2
    rm -rf /var/lib/cyrus/* /var/spool/cyrus/mail/*
    mkdir -p /run/cyrus/socket /run/cyrus/proc /run/cyrus/lock /var/lib/cyrus/db /var/lib/cyrus/proc
    chown -R cyrus:mail /run/cyrus /var/lib/cyrus /var/spool/cyrus`);
  const master = debian.start(
    '/usr/lib/cyrus/bin/master -C /etc/imapd.conf -M /etc/cyrus.conf -p /run/cyrus/master.pid',
  );
  await listens(port);
  const admin = (...commands: string[]) =>
    execFileSync('python3', [`${ROOT}/test/servers/commands.py`, `${port}`, 'cyrus', PASSWORD, ...commands]);
  for (const user of [USER, ...others]) admin(`CREATE user/${user}`, `SETQUOTA user/${user} (STORAGE 4096)`);
  return {
    name: 'cyrus',
    port,
    user: USER,
    password: PASSWORD,
    prefix: '',
    delimiter: '/',
    // A root of its own for the trash, beside one without a limit: so that moving there needs room.
    limit: () => admin(`SETQUOTA user/${USER}/Trash (STORAGE 70)`),
    stop: async () => {
      master.kill('SIGQUIT');
      await once(master, 'exit');
      debian.leave();
    },
  };
}
