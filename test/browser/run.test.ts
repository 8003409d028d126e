import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, Key, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { type App, cleanUp, PASSWORD, until } from '../harness';
import { accessible, answer, ask, enterDemo, find, goTo, located, openDemo, press, shows, text, toTrash } from './page';

let host: StandIn;
let driver: WebDriver;
let app: App;

before(async () => {
  ({ host, app, driver } = await openDemo({ env: { TAMSEL_MAX_UNCONFIRMED_PURGE: '50' } }));
  await enterDemo();
});
after(cleanUp);

const held = (folder: string) => host.mailbox.folder(folder)?.messages.length ?? 0;
const lastRun = async () => (await ask('/runs')).runs[0];

test('a tab that is closed in mid-run finds it again, further on; others’ acts are read as reasons', async () => {
  host.faults.latencyMs = 700;
  const offers = held('Offers');
  await toTrash('folder = Offers');
  // Asked of the host itself, since the browser may be slower than the run; what comes next takes its time.
  await until(() => held('Offers') < offers);
  host.faults.latencyMs = 4_000;
  const seen = (await lastRun()).done.messages;
  // Another client takes away what has not had its turn yet.
  const mailbox = host.mailbox;
  const rest = mailbox.folder('Offers')?.messages.slice(-5) ?? [];
  mailbox.move(mailbox.folder('Offers') as never, rest.slice(0, 2), mailbox.folder('Archive') as never);
  mailbox.expunge(mailbox.folder('Offers') as never, rest.slice(2));
  const tab = await driver.getWindowHandle();
  await driver.switchTo().newWindow('tab');
  const other = await driver.getWindowHandle();
  await driver.switchTo().window(tab);
  await driver.close();
  await driver.switchTo().window(other);
  await goTo('/ledger');
  await shows(/of [\d,]+ messages/);
  assert.ok((await lastRun()).done.messages >= seen);
  host.faults.latencyMs = 0;
  await shows(/Run 1 is done/);
  const run = await lastRun();
  assert.equal(
    run.done.messages + run.left.reduce((sum: number, { messages }: { messages: number }) => sum + messages, 0),
    run.asked.messages,
  );
  assert.ok(offers - held('Offers') >= run.done.messages);
  await (await located(By.xpath('//main//button[contains(., "folder = Offers")]'))).click();
  await shows(/2 moved by another program/, '[role=dialog]');
  await shows(/3 already gone/, '[role=dialog]');
  await shows(/in this page/, '[role=dialog]');
  await accessible('the record of a run');
});

test('a run is undone from its record, and says when nothing of it is left to take back', async () => {
  const run = await lastRun();
  const before = held('Offers');
  await press(`Undo: restore ${run.undo.messages.toLocaleString('en-GB')} messages`);
  await until(() => held('Offers') === before + run.undo.messages);
  await until(async () => (await lastRun()).state === 'done' && (await lastRun()).action === 'restore');
  await goTo('/ledger?run=1');
  await shows(/Nothing to undo/, '[role=dialog]');
});

test('three messages found by search in the trash are taken back; what other programs moved goes where the user says', async () => {
  const [sample] = host.mailbox.folder('Trash')?.messages ?? [];
  assert.ok(sample);
  await goTo('/trash?where=subject%20~%20e');
  const grid = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  const archived = held('Archive');
  await grid.sendKeys(' ', Key.chord(Key.SHIFT, Key.ARROW_DOWN), Key.chord(Key.SHIFT, Key.ARROW_DOWN));
  await shows(/3 marked/);
  const select = await find('main select.w-28');
  await select.sendKeys('Archive');
  await press('Restore');
  await until(() => held('Archive') === archived + 3);
});

test('a purge is refused and nothing goes; what comes in after the question was shown is not purged by its answer', async () => {
  await goTo('/trash');
  const { trash, trashGuarded } = await ask('/level');
  const goes = trash.messages - trashGuarded.messages;
  const purge = `Purge ${goes.toLocaleString('en-GB')} messages`;
  await press(purge);
  await shows(/Tamsel can’t bring them back/, '[role=alertdialog]');
  await accessible('the question');
  await (await find('[role=alertdialog] input')).sendKeys('yes', Key.ENTER);
  await (await located(By.xpath('//*[@role="alertdialog"]//button[normalize-space()="Keep them"]'))).click();
  assert.equal((await lastRun()).action, 'restore');
  await press(purge);
  await shows(/Tamsel can’t bring them back/, '[role=alertdialog]');
  // One more comes in while the question stands, and the index knows of it.
  const { mailbox } = host;
  mailbox.move(
    mailbox.folder('INBOX') as never,
    mailbox.folder('INBOX')?.messages.slice(0, 1) ?? [],
    mailbox.folder('Trash') as never,
  );
  await driver.executeAsyncScript(
    `fetch('/api/accounts/1/scans', { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{}' }).then(arguments[arguments.length - 1])`,
  );
  await until(async () => (await ask('/level')).trash.messages === trash.messages + 1);
  // The sign-in is a while ago: it is asked whether it is still the owner who sits there.
  await app.database.query(`update session_account set proved_at = now() - interval '1 hour'`);
  await answer(goes);
  await shows(/Is it still you/, '[role=alertdialog]');
  await accessible('the question who it is');
  const password = await find('[role=alertdialog] input[type=password]');
  await password.sendKeys('not it', Key.ENTER);
  await shows(/refused the user name or the password/, '[role=alertdialog]');
  assert.notEqual((await lastRun()).action, 'purge');
  await password.clear();
  await password.sendKeys(PASSWORD, Key.ENTER);
  await until(async () => (await lastRun()).action === 'purge' && (await lastRun()).state === 'done');
  assert.equal((await lastRun()).done.messages, goes);
  assert.equal(held('Trash'), trashGuarded.messages + 1);
  await goTo('/ledger');
  await shows(/sealed together with the one before/);
  await press('Check the ledger');
  await shows(/No entry was changed/);
  assert.match(await text('main'), /freed in 1 purge/);
});
