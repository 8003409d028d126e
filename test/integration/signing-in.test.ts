import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { connectImap } from '../../src/mail/imap/connect';
import type { MailProblem } from '../../src/mail/problem';
import { DOVECOT_OPERATOR, DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { App, cleanUp, hosted, indexed, PASSWORD, startStandIn, tinyScenario, USER } from '../harness';
import { Relay } from '../relay';

after(cleanUp);

/** Signs in and out again; gives the kind of the problem, or nothing. */
async function attempt(port: number, user = USER, password = PASSWORD, signInAs?: string): Promise<string> {
  const access = { host: '127.0.0.1', port, security: 'none', user, password, signInAs } as const;
  try {
    await (await connectImap(access, { allowPrivate: true, caFile: undefined })).close();
    return '';
  } catch (error) {
    return (error as MailProblem).kind;
  }
}

test('one signs in by the best that the host offers; with SCRAM the password stays here', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const relay = await Relay.before(host.plainPort);
  const inPlain = Buffer.from(`\0${USER}\0${PASSWORD}`).toString('base64');
  for (const [hide, said, secret] of [
    [[], /^\d+ AUTHENTICATE SCRAM-SHA-256 \S+\r$/m, undefined],
    [['SASL-IR'], /^\d+ AUTHENTICATE SCRAM-SHA-256\r$/m, undefined],
    [['AUTH=SCRAM-SHA-256'], /^\d+ AUTHENTICATE PLAIN \S+\r$/m, inPlain],
    [['AUTH=SCRAM-SHA-256', 'SASL-IR'], /^\d+ AUTHENTICATE PLAIN\r$/m, inPlain],
    [['AUTH=SCRAM-SHA-256', 'AUTH=PLAIN'], /^\d+ LOGIN /m, PASSWORD],
  ] as const) {
    host.faults.hide = [...hide];
    relay.said = '';
    assert.equal(await attempt(relay.port), '');
    assert.match(relay.said, said);
    for (const form of [inPlain, PASSWORD]) assert.equal(relay.said.includes(form), form === secret, `${hide} ${form}`);
    assert.equal(await attempt(relay.port, USER, 'wrong'), 'password-refused', hide.join());
    assert.equal(await attempt(relay.port, 'nobody', PASSWORD), 'password-refused', hide.join());
  }
  host.faults.hide = ['AUTH=SCRAM-SHA-256', 'AUTH=PLAIN'];
  host.faults.saslLogin = true;
  relay.said = '';
  assert.equal(await attempt(relay.port), '');
  assert.match(relay.said, /^\d+ AUTHENTICATE LOGIN\r$/m);
  assert.equal(await attempt(relay.port, USER, 'wrong'), 'password-refused');
});

test('a host that only pretends to know the password is left; one that wants encryption, or no password, is told apart', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults.falseProof = true;
  assert.equal(await attempt(host.plainPort), 'server-not-proven');
  host.faults.falseProof = false;
  host.faults.tlsFirst = true;
  assert.equal(await attempt(host.plainPort), 'no-mechanism');
  const app = await App.start({ authority: host.authority, worker: false });
  await app.signIn({ host: 'localhost', port: host.plainPort, security: 'starttls' });
});

test('Dovecot takes our SCRAM, and we its proof', async () => {
  const dovecot = await startDovecot(10);
  const relay = await Relay.before(dovecot.plainPort);
  assert.equal(await attempt(relay.port, DOVECOT_USER, DOVECOT_PASSWORD), '');
  assert.match(relay.said, /AUTHENTICATE SCRAM-SHA-256/);
  assert.equal(await attempt(relay.port, DOVECOT_USER, 'wrong'), 'password-refused');
  assert.equal(await attempt(relay.port, DOVECOT_USER, DOVECOT_OPERATOR.password, DOVECOT_OPERATOR.user), '');
  assert.equal(await attempt(relay.port, DOVECOT_USER, DOVECOT_PASSWORD, DOVECOT_USER), '');
  assert.equal(await attempt(relay.port, DOVECOT_OPERATOR.user, DOVECOT_PASSWORD, DOVECOT_USER), 'password-refused');
});

test('a host’s operator looks after a mailbox that is not theirs: scanned, and their password kept sealed', async () => {
  const operator = { user: 'warden@saltmarshlane.example', password: 'keys and lists' };
  const host = await startStandIn({ scenario: tinyScenario(), operators: [operator] });
  for (const hide of [[], ['AUTH=SCRAM-SHA-256']]) {
    host.faults.hide = hide;
    assert.equal(await attempt(host.plainPort, USER, operator.password, operator.user), '');
    assert.equal(await attempt(host.plainPort, operator.user, PASSWORD, USER), 'password-refused');
  }
  host.faults.hide = ['AUTH=SCRAM-SHA-256', 'AUTH=PLAIN'];
  assert.equal(await attempt(host.plainPort, USER, operator.password, operator.user), 'no-mechanism');
  host.faults.hide = [];
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort, password: operator.password, signInAs: operator.user });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.deepEqual(await indexed(app, account), hosted(host));
  assert.equal((await app.call('GET', '/session')).body.accounts[0].user, USER);
  const { rows } = await app.database.query('select sealed from credential');
  assert.ok(!rows[0].sealed.toString('latin1').includes(operator.password));
  assert.equal((await app.scanned(account, true)).state, 'done');
});
