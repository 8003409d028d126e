import { freePort } from '../../src/cli/cluster';
import { listens, type MailHost, PASSWORD, pauseGroup, USER } from './mail-host';
import { UnpackedDebian } from './unpacked-debian';

const MAIL = `/srv/${USER}/Maildir`;
const AS_USER = 'chroot --userspec=2001:2001 /';
const LIBRARY = '/usr/lib/courier';

/** Debian's Courier IMAP with its own defaults: no MOVE, UTF8=ACCEPT offered, folders below the inbox, parted by a dot. */
export async function startCourier(): Promise<MailHost> {
  const debian = UnpackedDebian.with('courier', ['courier-imap', 'courier-authlib-userdb', 'courier-base']);
  const port = await freePort();
  debian.write('etc/passwd', `root:x:0:0::/:/bin/sh\ncourier:x:2000:2000::/:/bin/sh\n${USER}:x:2001:2001::/:/bin/sh\n`);
  debian.write('etc/group', `root:x:0:\ncourier:x:2000:\n${USER}:x:2001:\n`);
  debian.shell(`mkdir -p /srv/${USER} /run/courier/authdaemon /etc/courier
    chown 2001:2001 /srv/${USER}; chown -R 2000:2000 /run/courier
    ${AS_USER} maildirmake.courier ${MAIL}
    ${AS_USER} maildirmake.courier -q 1000000000S ${MAIL}
    rm -f /etc/courier/userdb
    : > /etc/courier/userdb; chmod 600 /etc/courier/userdb
    userdb ${USER} set home=/srv/${USER} mail=${MAIL} uid=2001 gid=2001 systempw=$(echo ${PASSWORD} | userdbpw -md5)
    makeuserdb
    sed -i 's/^authmodulelist=.*/authmodulelist="authuserdb"/' /etc/courier/authdaemonrc`);
  const limit = (kib: number) => void debian.shell(`${AS_USER} maildirmake.courier -q ${kib * 1024}S ${MAIL}`);
  limit(1_000_000);
  debian.start([`${LIBRARY}/courier-authlib/authdaemond`]);
  const settings = 'set -a; . /etc/courier/imapd; AUTHMODULES=authdaemon; IMAP_TLS_REQUIRED=0; MAXPERIP=40';
  const command = `couriertcpd -address=127.0.0.1 -maxprocs=40 -maxperip=40 -nodnslookup -noidentlookup ${port} ${LIBRARY}/courier/imaplogin /usr/bin/imapd Maildir`;
  const listener = debian.start(['sh', '-c', `${settings}; exec ${command}`]);
  await listens(port);
  return {
    name: 'courier',
    port,
    user: USER,
    password: PASSWORD,
    prefix: 'INBOX.',
    delimiter: '.',
    sievePort: 0,
    lmtpPort: 0,
    pause: (isPaused) => pauseGroup(listener.pid, isPaused),
  };
}
