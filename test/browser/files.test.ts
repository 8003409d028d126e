import assert from 'node:assert/strict';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { By, Key, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { cleanUp, temporaryFolder, until } from '../harness';
import { accessible, answer, ask, enterDemo, find, goTo, located, openDemo, press, rests, shows } from './page';

let host: StandIn;
let driver: WebDriver;
let downloads: string;

before(async () => {
  ({ host, driver } = await openDemo());
  downloads = temporaryFolder();
  await (driver as unknown as { sendDevToolsCommand(name: string, of: object): Promise<void> }).sendDevToolsCommand(
    'Browser.setDownloadBehavior',
    { behavior: 'allow', downloadPath: downloads },
  );
  await enterDemo();
});
after(cleanUp);

const lastRun = async () => (await ask('/runs')).runs[0];
const lastBag = async () => (await ask('/bags')).bags[0];
const messages = () => host.mailbox.messageCount();

/** The file that Chromium has downloaded, once it is whole. */
async function downloaded(): Promise<string> {
  await until(() => readdirSync(downloads).some((name) => name.endsWith('.zip')));
  return join(downloads, readdirSync(downloads).find((name) => name.endsWith('.zip')) as string);
}

/** Hands a file in, as a person chooses it. */
async function handIn(path: string): Promise<void> {
  await (await find('input[data-hand-in]')).sendKeys(path);
}

test('every file is listed; bars, criteria and marks narrow to them, and the view is accessible', async () => {
  await goTo('/files');
  const total = (await ask('/files')).total.files;
  await shows(new RegExp(`${total.toLocaleString('en-GB')} files`));
  await accessible('the list of files');
  await goTo(`/files?where=${encodeURIComponent('kind = film')}`);
  const films = (await ask(`/files?where=${encodeURIComponent('kind = film')}`)).total.files;
  await shows(new RegExp(`${films} files? ·`));
  await press('Mark everything that matches');
  await shows(new RegExp(`${films} marked`));
});

test('pictures are seen as tiles and larger, keys mark them, and documents tell their first words', async () => {
  await goTo(`/files?as=pictures&where=${encodeURIComponent('kind = picture')}`);
  const shown = () =>
    driver.executeScript<number>(
      "return [...document.querySelectorAll('[role=option] img')].filter(({ naturalWidth }) => naturalWidth > 0).length",
    );
  await until(async () => (await shown()) >= 12);
  await accessible('the tiles of files');
  await rests();
  const tiles = await find('[role=listbox]');
  await tiles.sendKeys(' ', Key.ARROW_RIGHT, ' ', Key.ARROW_DOWN, ' ');
  await shows(/3 marked/);
  await tiles.sendKeys(Key.ENTER);
  await until(async () =>
    driver.executeScript<boolean>("return (document.querySelector('[role=dialog] img')?.naturalWidth ?? 0) > 320"),
  );
  await accessible('a picture by itself');
  await press('Close');
  await press('as a list');
  await shows(/Space marks/);
  await goTo(`/files?where=${encodeURIComponent('file ~ "lease.pdf"')}`);
  await (await find('[role=grid]')).sendKeys(Key.ENTER);
  await shows(/Saltmarsh Lane Allotments, \d+/);
});

test('from too full to the target by files alone: suggested, saved, downloaded, checked by handing in, taken out, purged', async () => {
  const before = messages();
  await goTo('/suggestions');
  await shows(/Take out pictures and films over/);
  // The first decision costs nobody a letter.
  const [first] = (await ask('/suggestions')).suggestions;
  assert.equal(first.fate, 'strip');
  await press('Take');
  await until(async () => (await ask('/lots')).lots.length === 1);
  await goTo('/review');
  await shows(/no checked copy outside the mailbox yet/);
  await accessible('the review of a lot that takes files out');
  await press('Save on your computer');
  await until(async () => (await lastBag())?.state === 'done');
  await goTo('/files');
  await (await located(By.linkText('Download'))).click();
  const archive = await downloaded();
  // A copy that was altered is refused, and what is missing in it is not checked.
  const octets = readFileSync(archive);
  const altered = join(temporaryFolder(), 'altered.zip');
  const copy = Buffer.from(octets);
  copy[Math.floor(copy.length / 2)] = (copy[Math.floor(copy.length / 2)] ?? 0) ^ 1;
  writeFileSync(altered, copy);
  await handIn(altered);
  await shows(/1 differ/);
  const bag = await lastBag();
  assert.equal(bag.checked.files, bag.saved.files - 1);
  await handIn(archive);
  await until(async () => (await lastBag()).checked.files === bag.saved.files);
  await goTo('/review');
  const [lot] = (await ask('/lots')).lots;
  assert.equal(lot.unchecked, 0);
  await press(`Take the files out of ${lot.messages} messages`);
  await until(async () => (await lastRun())?.state === 'done');
  const run = await lastRun();
  assert.deepEqual([run.left, run.done.messages], [[], lot.messages]);
  await goTo('/trash');
  const { trash, trashGuarded } = await ask('/level');
  const going = trash.messages - trashGuarded.messages;
  await press(`Purge ${going.toLocaleString('en-GB')} messages`);
  await answer(going);
  await until(async () => (await lastRun()).action === 'purge' && (await lastRun()).state === 'done');
  const level = await ask('/level');
  assert.ok(level.used / level.limit < 0.8, `${level.used} of ${level.limit}`);
  assert.equal(messages(), before - going + run.added.messages, 'no message is gone but those that another stands for');
});

test('a set is saved straight into a folder and checked there; its pictures are made smaller, and stay in the mail', async () => {
  const where = 'kind = picture and size > 1 MiB and age < 3y';
  const before = (await ask(`/files?where=${encodeURIComponent(where)}`)).total;
  assert.ok(before.files > 2);
  const earlier = (await lastBag()).id;
  await goTo(`/files?where=${encodeURIComponent(where)}`);
  await press('Mark everything that matches');
  await press('Save on your computer');
  await until(async () => (await lastBag()).id > earlier && (await lastBag()).state === 'done');
  await goTo('/files');
  // The dialog of the system can't be pressed; the folder it would give is one of the browser's own.
  await driver.executeScript('window.showDirectoryPicker = () => navigator.storage.getDirectory()');
  await press('Save straight into a folder');
  await until(async () => (await lastBag()).checked.files === before.files);
  await shows(new RegExp(`${before.files} files are equal`));
  await press('Make pictures smaller instead');
  await until(async () =>
    driver.executeScript<boolean>(
      "return [...document.querySelectorAll('[role=dialog] figure img')].filter(({ naturalWidth }) => naturalWidth > 0).length === 2",
    ),
  );
  await accessible('pictures before and after');
  await press('Add to the plan');
  await until(async () => (await ask('/lots')).lots.some(({ fate }: { fate: string }) => fate === 'shrink'));
  const letters = messages();
  await goTo('/review');
  await shows(/1600 points at most/);
  await press(`Make the pictures of ${(await ask('/lots')).total.messages} messages smaller`);
  await until(async () => (await lastRun()).action === 'shrink' && (await lastRun()).state === 'done');
  const run = await lastRun();
  assert.deepEqual([run.left, messages()], [[], letters + run.done.messages]);
  assert.equal((await ask(`/files?where=${encodeURIComponent(where)}`)).total.files, 0);
  await shows(/Make pictures smaller/);
});
