import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { By, until as browserUntil, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import type { Scenario } from '../../stand-in/scenario/mailbox';
import type { FileSpaceServer } from '../../stand-in/webdav/server';
import { startFileSpace } from '../file-space';
import {
  App,
  DAY,
  demoScenario,
  PASSWORD,
  PATIENCE_MS,
  ROOT,
  startStandIn,
  temporaryFolder,
  USER,
  until,
} from '../harness';
import { openChromium } from './chromium';

/** The page of a test file: one browser, opened once, and what tests look for and wait for in it. */
let driver: WebDriver;
let origin: string;
const axe = readFileSync(join(ROOT, 'node_modules/axe-core/axe.min.js'), 'utf8');

/** The small demo mailbox on a host of its own, Tamsel before it, and a browser. */
export async function openDemo({
  env = {},
  scenario = demoScenario(),
}: {
  env?: NodeJS.ProcessEnv;
  scenario?: Scenario;
} = {}): Promise<{ host: StandIn; files: FileSpaceServer; app: App; driver: WebDriver }> {
  const host = await startStandIn({ scenario });
  const files = await startFileSpace(host, filesOf(scenario, Date.parse(`${DAY}T18:00:00Z`) / 1000), SHARED);
  const demo = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };
  const servers = join(temporaryFolder(), 'servers.json');
  writeFileSync(
    servers,
    JSON.stringify({
      'saltmarshlane.example': { host: 'localhost', port: host.tlsPort, security: 'tls', files: files.url.href },
    }),
  );
  const app = await App.start({
    authority: host.authority,
    env: { TAMSEL_DEMO: JSON.stringify(demo), TAMSEL_SERVERS_FILE: servers, ...env },
  });
  return { host, files, app, driver: await openPage(app) };
}

/** A browser before an instance. */
export async function openPage(app: App): Promise<WebDriver> {
  ({ origin } = app);
  driver = await openChromium();
  return driver;
}

/** Marks what matches, and has it moved to the trash. */
export async function toTrash(where: string): Promise<void> {
  await driver.executeAsyncScript(
    `const done = arguments[arguments.length - 1];
     fetch('/api/accounts/1/lots', { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ where: arguments[0] }) }).then(() => done());`,
    where,
  );
  await goTo('/review');
  await (await located(By.css('main .button-chief'))).click();
  await shows(/Run \d+/);
}

/** Signs in to the demo's mailbox with one press, and waits until all of it is read. */
export async function enterDemo(): Promise<void> {
  await goTo('/');
  const open = By.xpath('//button[normalize-space()="Open the demo mailbox"]');
  await (await located(open)).click();
  await until(async () => (await ask('/scans/last')).state === 'done');
}

/** Waits for something in the page. */
export const located = (by: By) => driver.wait(browserUntil.elementLocated(by), PATIENCE_MS);

/** Goes to a page, and waits until it has taken over what the server rendered. */
export async function goTo(path: string): Promise<void> {
  await driver.get(origin + path);
  await located(By.css('astro-island:not([ssr])'));
}
export const find = (css: string) => located(By.css(css));
export const button = (name: string) =>
  located(By.xpath(`//*[self::main or @role="dialog"]//button[normalize-space()="${name}"]`));
/** Presses a button. One that is drawn anew between being found and being pressed is looked for again. */
export const press = (name: string) =>
  until(async () => {
    try {
      await (await button(name)).click();
      return true;
    } catch (error) {
      if ((error as Error).name !== 'StaleElementReferenceError') throw error;
      return false;
    }
  });
/** Presses what stands in the page with these words in it. */
export async function pressPart(words: string): Promise<void> {
  const path = By.xpath(`//main//*[self::button or self::a][contains(., "${words}")]`);
  await located(path).click();
}
export const text = async (css = 'body') => (await find(css)).getText();
/** A page that is just being replaced shows nothing yet. */
export const shows = (pattern: RegExp, css = 'body') =>
  until(async () => pattern.test(await text(css).catch(() => '')));
/** Asks the API with the browser's own session. */
export const ask = <T = any>(path: string) =>
  driver.executeScript<T>(`return fetch('/api/accounts/1${path}').then((answer) => answer.json())`);

/** Waits until the page draws nothing any more: one that draws because it has drawn never stops, and takes a processor for itself. */
export const rests = () => until(async () => (await drawn()) < MOST_AT_REST);

/** Drawings within half a second of a page at rest: a clock moves, an announcement comes in. */
const MOST_AT_REST = 5;

/** How often React sets to work within half a second: its scheduler sends itself a message each time. */
const drawn = () =>
  driver.executeAsyncScript<number>(
    `const done = arguments[arguments.length - 1];
     const send = MessagePort.prototype.postMessage;
     let times = 0;
     MessagePort.prototype.postMessage = function (...sent) { times++; return send.apply(this, sent); };
     setTimeout(() => { MessagePort.prototype.postMessage = send; done(times); }, 500);`,
  );

/** Answers the question that can't be undone: by how many messages go. */
export async function answer(messages: number): Promise<void> {
  const go = await find('[role=alertdialog] .button-go');
  assert.equal(await go.isEnabled(), false, 'it is not answered by a press alone');
  await (await find('[role=alertdialog] input')).sendKeys(`${messages}`);
  await driver.wait(browserUntil.elementIsEnabled(go), PATIENCE_MS);
  await go.click();
}

/** The text of the criteria as it stands in the page. */
export const criteriaShown = async () => (await (await find('[data-criteria]')).getAttribute('value')) ?? '';

/** Fails where axe-core finds anything on the page, or the browser had anything to say against it. */
export async function accessible(name: string): Promise<void> {
  await complaints(name);
  await driver.executeScript(axe);
  const violations = await driver.executeAsyncScript<
    { id: string; nodes: { html: string; failureSummary: string }[] }[]
  >(`const done = arguments[arguments.length - 1]; axe.run(document).then(({ violations }) => done(violations));`);
  assert.deepEqual(
    violations.map(({ id, nodes }) => `${id}: ${nodes[0]?.html} ${nodes[0]?.failureSummary}`),
    [],
    name,
  );
}

/** What the policy refused, and what differs between what the server and what the browser renders. */
async function complaints(name: string): Promise<void> {
  const said = (await driver.manage().logs().get('browser')).map(({ message }) => message);
  const wrong = said.filter((message) => /Content Security Policy|react\.dev\/errors/.test(message));
  assert.deepEqual(wrong, [], name);
}
