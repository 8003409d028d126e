import { once } from 'node:events';
import { BareDebian } from './bare-debian';
import { listens, type MailHost, PASSWORD, USER } from './mail-host';

const MAIL = `/srv/${USER}/Maildir`;

/** Debian's Courier IMAP with its own defaults: no MOVE, UTF8=ACCEPT offered, folders below the inbox, parted by a dot. */
export async function startCourier(port: number): Promise<MailHost> {
  const debian = BareDebian.with('courier', ['courier-imap', 'courier-authlib-userdb']);
  debian.shell(`id ${USER} >/dev/null 2>&1 || useradd -u 2001 ${USER}
    rm -rf /srv/${USER} && mkdir -p /srv/${USER} && chown ${USER} /srv/${USER}
    su ${USER} -s /bin/sh -c "maildirmake ${MAIL} && maildirmake -q 1000000000S ${MAIL}"
    rm -rf /etc/courier/userdb && touch /etc/courier/userdb && chmod 600 /etc/courier/userdb
    userdb ${USER} set home=/srv/${USER} mail=${MAIL} uid=2001 gid=2001 systempw=$(echo ${PASSWORD} | userdbpw -md5)
    makeuserdb
    sed -i 's/^authmodulelist=.*/authmodulelist="authuserdb"/' /etc/courier/authdaemonrc
    mkdir -p /run/courier/authdaemon && chown -R courier /run/courier`);
  const authentication = debian.start('/usr/lib/courier/courier-authlib/authdaemond', { detached: true });
  const settings = 'set -a; . /etc/courier/imapd; AUTHMODULES=authdaemon; IMAP_TLS_REQUIRED=0';
  const listener = debian.start(
    `sh -c '${settings}; exec couriertcpd -address=127.0.0.1 -maxprocs=40 -maxperip=40 -nodnslookup -noidentlookup ${port} /usr/lib/courier/courier/imaplogin /usr/bin/imapd Maildir'`,
    { detached: true },
  );
  await listens(port);
  return {
    name: 'courier',
    port,
    user: USER,
    password: PASSWORD,
    prefix: 'INBOX.',
    delimiter: '.',
    limit: (kib) => debian.shell(`su ${USER} -s /bin/sh -c "maildirmake -q ${kib * 1024}S ${MAIL}"`),
    stop: async () => {
      for (const child of [listener, authentication]) {
        process.kill(-(child.pid as number), 'SIGTERM');
        if (child.exitCode === null && child.signalCode === null) await once(child, 'exit');
      }
      debian.leave();
    },
  };
}
