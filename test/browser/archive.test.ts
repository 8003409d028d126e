import assert from 'node:assert/strict';
import { copyFileSync, readFileSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import { after, before, test } from 'node:test';
import { By, Key, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { type App, cleanUp, temporaryFolder, until } from '../harness';
import { accessible, answer, ask, enterDemo, find, goTo, openDemo, press, shows } from './page';

let host: StandIn;
let app: App;
let driver: WebDriver;

before(async () => {
  ({ host, app, driver } = await openDemo());
  // A test damages a bag.
  app.expectError(/what was saved has changed on the disk/);
  await enterDemo();
});
after(cleanUp);

const lastRun = async () => (await ask('/runs')).runs[0];
const lastBag = async () => (await ask('/bags')).bags[0];
const shown = (number: number) => number.toLocaleString('en-GB');
const LETTERS = 'date < 2021-01-01 and category = letters and not guarded';
const found = (where: string) => ask(`/messages?scope=archive&order=date&where=${encodeURIComponent(where)}`);

test('letters before 2021 are archived, checked, and moved to the trash; the purge wins them, and the level says so', async () => {
  await goTo('/archive');
  await shows(/Nothing lies in the archive yet[\s\S]*Moving mail to a folder inside the mailbox wins nothing/);
  await accessible('an empty archive');
  await goTo(`/sift?where=${encodeURIComponent(LETTERS)}`);
  const { total } = await ask(`/messages?where=${encodeURIComponent(LETTERS)}`);
  assert.ok(total.messages >= 20, `${total.messages}`);
  await shows(new RegExp(`${shown(total.messages)} match`));
  await press('Mark everything that matches');
  await press('Archive, then trash');
  await until(async () => (await ask('/lots')).lots[0]?.fate === 'archive');
  await goTo('/review');
  await shows(/archived first[\s\S]*reads every octet back from the disk/);
  await accessible('the review of a lot that is archived');
  await press(`Archive ${shown(total.messages)} messages, then move them to the trash`);
  await until(async () => (await lastRun())?.state === 'done');
  const run = await lastRun();
  assert.deepEqual([run.action, run.done, run.left], ['archive', total, []]);
  const bag = await lastBag();
  assert.deepEqual([bag.checked.files, bag.checked.bytes], [total.messages, total.bytes]);
  await goTo('/trash');
  const { trash, trashGuarded } = await ask('/level');
  const going = trash.messages - trashGuarded.messages;
  await press(`Purge ${shown(going)} messages`);
  await answer(going);
  await until(async () => (await lastRun()).action === 'purge' && (await lastRun()).state === 'done');
  const { before: earlier, after: later, done } = await lastRun();
  assert.equal(earlier.counted - later.counted, done.bytes);
  assert.ok(done.bytes >= total.bytes);
  await goTo('/level');
  await shows(new RegExp(`${shown(total.messages)} messages[^\\n]*in the archive`));
});

test('they are searched by a word of their text and looked at; three are put back, and undone', async () => {
  await until(async () => (await ask('/archive')).unread === 0);
  const where = 'text ~ lease';
  const { total } = await found(where);
  assert.ok(total.messages >= 3, `${total.messages}`);
  await goTo(`/archive?where=${encodeURIComponent(where)}`);
  await shows(new RegExp(`${shown(total.messages)} match`));
  await accessible('the archive');
  const grid = await find('[role=grid]');
  await grid.sendKeys(Key.ENTER);
  await shows(/Was in[\s\S]*Save as a file/, '[role=dialog]');
  await shows(/lease/i, '[role=dialog]');
  await accessible('a message of the archive');
  await press('Close');
  const before = host.mailbox.messageCount();
  await grid.sendKeys(' ', Key.ARROW_DOWN, ' ', Key.ARROW_DOWN, ' ');
  await shows(/3 marked/);
  await press('Put back');
  await until(async () => (await lastRun()).action === 'put-back' && (await lastRun()).state === 'done');
  const run = await lastRun();
  assert.deepEqual([run.done.messages, run.left, run.undo.messages], [3, [], 3]);
  assert.equal(host.mailbox.messageCount(), before + 3);
  const { total: there } = await ask(`/messages?where=${encodeURIComponent(LETTERS)}`);
  assert.equal(there.messages, 3);
  await goTo(`/ledger?run=${run.id}`);
  await press('Undo: move 3 messages to the trash');
  await until(async () => (await lastRun()).action === 'trash' && (await lastRun()).state === 'done');
  assert.equal((await ask(`/messages?where=${encodeURIComponent(LETTERS)}`)).total.messages, 0);
});

test('a bit that fell is said on the bag, and repaired from a copy that is handed in', async () => {
  const bag = await lastBag();
  const [message] = (await found('text ~ lease')).messages;
  const { files } = await ask(`/bags/${bag.id}/files?limit=1000`);
  const one = files.find(({ size }: { size: number }) => size === message.size);
  const path = join(app.archive, '1', bag.folder, 'data', one.path);
  const copy = join(temporaryFolder(), basename(path));
  copyFileSync(path, copy);
  const octets = readFileSync(path);
  const at = octets.length - 3;
  octets[at] = (octets[at] as number) ^ 1;
  writeFileSync(path, octets);
  await goTo('/archive');
  await press('check now');
  await shows(/1 message or file of this bag is not what was saved/, '[role=alert]');
  await accessible('a damaged bag');
  await goTo('/level');
  await shows(/1 message or file of the archive is damaged/);
  await goTo('/archive');
  await shows(/only a copy of yours can repair it|can be repaired from/, '[role=alert]');
  await (await find('input[data-repair]')).sendKeys(copy);
  await until(async () => (await lastBag()).damaged.files === 0);
  assert.deepEqual(readFileSync(path), readFileSync(copy));
  await until(async () => (await driver.findElements(By.css('input[data-repair]'))).length === 0);
});

test('mail that was saved elsewhere is brought in from the page, found by its text, and taken away again in other forms', async () => {
  const file = join(temporaryFolder(), 'Old computer.mbox');
  const line = 'From odile@quorn.example Sun Aug  6 09:05:07 2013\n';
  const letters = Array.from(
    { length: 3 },
    (_, at) => `${line}Subject: From the attic ${at}\nFrom: Odile <odile@quorn.example>\n\nmarmalade ${at}\n\n`,
  );
  writeFileSync(file, `${letters.join('')}${line}Subject: cut\n\nin the mid`);
  await goTo('/archive');
  await press('Bring in mail saved elsewhere');
  await accessible('the form to bring mail in');
  await (await find('[data-bring-in]')).sendKeys(file);
  await press('Bring it in');
  await until(async () => (await lastBag()).state === 'done');
  await shows(/Old computer\.mbox[\s\S]*1 is damaged, and kept as it is\.[\s\S]*brought in from Old computer\.mbox/);
  await until(async () => (await found('text ~ marmalade')).total.messages === 3);
  await goTo(`/archive?where=${encodeURIComponent('text ~ marmalade')}`);
  await shows(/From the attic 2[\s\S]*or as a Maildir/);
  await press('take a copy');
  await shows(/A Maildir \(tar\)[\s\S]*Each message as a file/);
  await accessible('the forms of a copy');
  const { brought, onlyHere } = await lastBag();
  assert.deepEqual([brought.format, brought.flawed, brought.passed, onlyHere.files], ['mbox', 1, 0, 4]);
});

test('copies of a folder, with those in it, are saved from the page', async () => {
  const paths: string[] = (await ask('/level')).folders.map(({ path }: { path: string }) => path);
  const top = paths.find((path) => paths.some((other) => other.startsWith(`${path}/`)));
  assert.ok(top);
  const { total } = await ask(`/messages?scope=all&where=${encodeURIComponent(`under = "${top}"`)}`);
  await goTo('/archive');
  await press('Save copies');
  await accessible('the form to save copies');
  await (await find('[role=dialog] select')).sendKeys(top);
  await press('Save them');
  await until(async () => (await lastBag()).label === top && (await lastBag()).state === 'done');
  assert.equal((await lastBag()).checked.files, total.messages);
});

test('every message of the last year is saved under a hold, and the page says what that is worth', async () => {
  await goTo('/archive');
  await shows(/Keep by law/);
  await press('save every night');
  await shows(
    /Nothing in the mailbox is deleted[\s\S]*Whoever runs this machine can still destroy what is on its disk/,
  );
  await (await find('[aria-label="Keep by law"] input:not([type=number])')).sendKeys('books of account');
  const years = await find('[aria-label="Keep by law"] input[type=number]');
  await years.sendKeys(Key.chord(Key.CONTROL, 'a'), '1');
  await accessible('the form of the retention export');
  await press('Save every night');
  await until(async () => (await ask('/retention')).kept.messages > 0);
  const [bag] = (await ask('/bags')).bags;
  assert.equal((await ask('/retention')).retention.years, 1);
  assert.deepEqual([bag.state, bag.heldReason], ['done', 'books of account']);
  await shows(/Every message of the last year is saved every night, under a hold/);
});
