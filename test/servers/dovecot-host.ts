import { freePort } from '../../src/cli/cluster';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { DOMAIN, type MailHost } from './mail-host';

/** Debian's Dovecot, which delivers by its own LMTP server and runs rules then. */
export async function startDovecotHost(): Promise<MailHost> {
  const lmtpPort = await freePort();
  const lmtp = `protocols = imap sieve lmtp
service lmtp {
  inet_listener lmtp {
    port = ${lmtpPort}
  }
}
protocol lmtp {
  mail_plugins = quota sieve
}
`;
  const { plainPort, sievePort, pause } = await startDovecot(1_000, [], undefined, 'all', lmtp);
  return {
    name: 'dovecot',
    port: plainPort,
    user: `${DOVECOT_USER}@${DOMAIN}`,
    password: DOVECOT_PASSWORD,
    prefix: 'INBOX.',
    delimiter: '.',
    sievePort,
    lmtpPort,
    pause,
  };
}
