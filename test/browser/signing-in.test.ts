import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, until as browserUntil, type WebDriver } from 'selenium-webdriver';
import type { AuthorizationServer } from '../../stand-in/authorization/server';
import { NameServer } from '../../stand-in/dns';
import type { StandIn } from '../../stand-in/host';
import { authorizationFile, startAuthorization } from '../authorizing';
import { App, cleanUp, later, PASSWORD, PATIENCE_MS, startStandIn, tinyScenario, USER, until } from '../harness';
import { accessible, ask, find, goTo, located, openPage, press, shows, text, toTrash } from './page';

const DOMAIN = USER.slice(USER.indexOf('@') + 1);
const MAIL = `imap.${DOMAIN}`;

let host: StandIn;
let other: StandIn;
let authorization: AuthorizationServer;
let driver: WebDriver;

before(async () => {
  authorization = await startAuthorization();
  host = await startStandIn({ scenario: tinyScenario(), authorization });
  host.faults.tokensOnly = true;
  other = await startStandIn({ scenario: tinyScenario() });
  const service = `_imaps._tcp.${DOMAIN}`;
  const names = await NameServer.start({
    [service]: [{ type: 'SRV', name: service, ttl: 1, data: { target: MAIL, port: host.tlsPort } }],
    [MAIL]: [{ type: 'A', name: MAIL, ttl: 1, data: '127.0.0.1' }],
  });
  later(() => names.stop());
  const app = await App.start({
    authority: host.authority,
    env: {
      TAMSEL_DNS: names.address,
      TAMSEL_AUTHORIZATION_FILE: authorizationFile(authorization.issuer, { hosts: [MAIL] }),
    },
  });
  driver = await openPage(app);
});
after(cleanUp);

/** Goes to the host's page, signs in there and allows, and comes back to the level. */
async function authorize(): Promise<void> {
  await press('Go to the provider’s page');
  await driver.wait(browserUntil.titleIs('Saltmarsh accounts'), PATIENCE_MS);
  const name = await find('[name=user]');
  assert.equal(await name.getAttribute('value'), USER);
  await (await find('[name=password]')).sendKeys(PASSWORD);
  await (await find('[value=allow]')).click();
  await find('.tank-legend');
}

test('an address is typed, its server found, the authorization given on the host’s page, and the level seen', async () => {
  await goTo('/');
  await (await find('#address')).sendKeys(USER);
  await press('Find the server');
  await shows(new RegExp(`Found ${MAIL} in the domain’s DNS records`));
  await accessible('the sign-in page, with a host that wants an authorization');
  await authorize();
  assert.doesNotMatch(await driver.getCurrentUrl(), /code|state/);
  await shows(/9\d %/, '.tank-head');
  await until(async () => (await ask('/scans/last')).state === 'done');
});

test('a person who refuses on the host’s page is told so, and can begin again', async () => {
  await goTo('/sign-in?again=1');
  assert.equal(await (await find('#user')).getAttribute('value'), USER);
  await press('Go to the provider’s page');
  await (await find('[value=refuse]')).click();
  await shows(/The person refused/);
  assert.equal(await driver.executeScript('return window.location.search'), '');
  await accessible('back from the host');
});

test('a token that runs out in mid-run is renewed; one that is taken back locks, and after signing in again the run ends', async () => {
  const held = (folder: string) => host.mailbox.folder(folder)?.messages.length ?? 0;
  const run = async (id: number) => ask(`/runs/${id}`);
  const several = '(folder = Offers or folder = Photographs or under = Committee)';
  host.faults.latencyMs = 250;
  const offers = held('Offers');
  await toTrash(several);
  await until(() => held('Offers') < offers);
  const given = authorization.grants.length;
  authorization.endAccessTokens();
  host.endTokens();
  host.faults.latencyMs = 0;
  await until(async () => (await run(1)).state === 'done');
  const first = await run(1);
  assert.deepEqual([first.left, first.done], [[], first.asked]);
  assert.deepEqual(authorization.grants.slice(given), ['refresh_token given']);

  host.faults.latencyMs = 250;
  const inbox = held('INBOX');
  await toTrash('folder = INBOX or folder = Sent or folder = Bees');
  await until(() => held('INBOX') < inbox);
  authorization.withdrawAll();
  host.dropAll();
  host.faults.latencyMs = 0;
  await until(async () => (await run(2)).state === 'failed');
  await goTo('/ledger');
  await shows(/no longer accepts Tamsel’s sign-in/);
  await (await located(By.linkText('Sign in again'))).click();
  await shows(/Sign in to the mailbox again/);
  await authorize();
  await until(async () => (await run(2)).state === 'done');
  const second = await run(2);
  assert.deepEqual([second.left, second.done], [[], second.asked]);
  assert.ok(!/no longer accepts/.test(await text()));
});

test('another mailbox is added; both stand side by side with what must go, are switched between, and one is left', async () => {
  await goTo('/accounts');
  await (await located(By.linkText('Add a mailbox'))).click();
  await (await find('#host')).sendKeys('localhost');
  const port = await find('#port');
  await port.clear();
  await port.sendKeys(`${other.plainPort}`);
  await (await find('#security [value=none]')).click();
  await (await find('#user')).sendKeys(USER);
  const password = await find('#password');
  await password.sendKeys(PASSWORD);
  await (await find('form input[type=checkbox]')).click();
  assert.equal(await password.getAttribute('type'), 'text');
  await press('Sign in');
  await shows(/2 mailboxes in this browser\. .* must go/);
  await shows(new RegExp(MAIL));
  await shows(/localhost/);
  await accessible('two mailboxes');
  const [, open] = await driver.findElements(By.linkText('Open'));
  await open?.click();
  await find('.tank-legend');
  assert.match(await driver.getCurrentUrl(), /mailbox=\d+$/);
  await (await located(By.partialLinkText('Sift'))).click();
  // The mailbox goes along, and survives a reload.
  await driver.navigate().refresh();
  await find('[data-criteria]');
  assert.match(await driver.getCurrentUrl(), /\/sift\?mailbox=\d+$/);
  await goTo('/accounts');
  await (await find(`[aria-label="More for ${USER}"]`)).click();
  await (await located(By.xpath('//button[.="Sign out of this mailbox"]'))).click();
  await shows(/1 mailbox in this browser/);
});
