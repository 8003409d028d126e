import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, until as browserUntil, type WebDriver } from 'selenium-webdriver';
import type { FileSpaceServer } from '../../stand-in/webdav/server';
import { cleanUp, demoScenario, until } from '../harness';
import { accessible, answer, ask, enterDemo, find, goTo, openDemo, press, pressPart, shows, text } from './page';

let files: FileSpaceServer;
let driver: WebDriver;

before(async () => {
  ({ files, driver } = await openDemo());
  await enterDemo();
});
after(cleanUp);

test('what is not mail is measured from Level: the address stands there, and every octet is explained', async () => {
  await goTo('/level');
  await shows(/of this quota is not mail/);
  assert.match(await text('.tank-legend'), /Not mail/);
  await press('Measure the files');
  await shows(/The operator of this Tamsel names this address/, '[role=dialog]');
  assert.equal(await (await find('[role=dialog] input[name=address]')).getAttribute('value'), files.url.href);
  await accessible('the form of a file space');
  await press('Sign in and measure');
  await shows(/every octet that the host counts is explained/);
  await shows(/6 files, .* are shared by others and don’t count/);
  await driver.wait(browserUntil.elementLocated(By.xpath('//h2[.="Where the files are"]')), 20_000);
  const legend = await text('.tank-legend');
  assert.match(legend, /Files/);
  assert.match(legend, /Pictures/);
  assert.doesNotMatch(legend, /Not mail|Something else/);
  const { space } = await ask('/level');
  assert.equal(space.files.bytes + space.pictures.bytes, demoScenario().notMail);
  await accessible('Level with files');
});

test('attached files that are kept there too are compared, and marked to be taken out of their messages', async () => {
  await goTo('/repeats');
  await (
    await driver.wait(
      browserUntil.elementLocated(By.xpath('//button[contains(., "Mailed, and kept as a file")]')),
      20_000,
    )
  ).click();
  await press('Compare them');
  await shows(/2 files are in your file space too/);
  const { groups } = await ask('/repeats/spaces');
  for (const { places } of groups) await shows(new RegExp(places[0].path));
  await accessible('files that are mailed and kept');
  const copies = groups.reduce((sum: number, { going }: { going: { files: number } }) => sum + going.files, 0);
  await press(copies === 1 ? 'Add 1 copy to the plan' : `Add ${copies} copies to the plan`);
  await shows(/can be taken out of messages · 0 B/);
  const [lot] = (await ask('/lots')).lots;
  assert.deepEqual([lot.label, lot.fate], ['Files that the file space has too', 'strip']);
});

test('Files shows them beside attachments, with where they lie; marked there they are in the plan', async () => {
  await goTo('/files');
  await shows(/Where it lies/);
  await pressPart('file space');
  await shows(/66 files · [\s\S]*Open day 2025\.mp4/);
  assert.doesNotMatch(await text('main'), /Mark .* of the file space/);
  const row = await driver.wait(
    browserUntil.elementLocated(By.xpath('//*[@role="row"][contains(., "Open day 2025.mp4")]')),
    20_000,
  );
  await row.click();
  await accessible('Files of a file space');
  await goTo('/files?place=space&where=kind%20%3D%20table');
  await shows(/16 files · /);
  await press('Mark everything that matches');
  await pressPart('Mark 16 files of the file space for its trash');
  await until(async () => (await ask('/file-lots')).lots.length === 1);
  const [lot] = (await ask('/file-lots')).lots;
  assert.deepEqual([lot.files, lot.fate], [16, 'trash']);
  await driver.executeScript(`return fetch('/api/accounts/1/file-lots/${lot.id}', { method: 'DELETE' })`);
});

test('two series of pictures are thinned after a look, and the level falls by what was said', async () => {
  await goTo('/repeats');
  await pressPart('Pictures nearly alike');
  await press('Compare them');
  await until(async () => {
    const { proofs } = await ask('/repeats');
    return proofs.some(({ what, state }: { what: string; state: string }) => what === 'pictures' && state === 'done');
  });
  await shows(/12 pictures in the file space/);
  await shows(/9 pictures in the file space/);
  for (const pictures of [12, 9]) {
    const section = `//section[contains(@aria-label, "${pictures} pictures in the file space")]`;
    assert.equal((await driver.findElements(By.xpath(`${section}//button[contains(., "for the trash")]`))).length, 0);
    await (await driver.findElement(By.xpath(`${section}//button[contains(., "Look at them")]`))).click();
    await shows(new RegExp(`Mark ${pictures - 1} pictures for the trash`));
    if (pictures === 9) await accessible('pictures of a file space nearly alike');
    await pressPart(`Mark ${pictures - 1} pictures for the trash`);
    await until(async () => (await driver.findElements(By.xpath(section))).length === 0);
  }
  const { lots, total } = await ask('/file-lots');
  assert.deepEqual([lots.length, total.files], [2, 19]);
  const planned = await ask('/level');
  await goTo('/review');
  await shows(/Files in the plan: 2 lots, 19 files/);
  await (await find(`button[aria-label="Open: ${lots[0].label}"]`)).click();
  await shows(/Open days\/2024\/Evening\/IMG_\d+\.jpg/);
  await accessible('files under review');
  await press('Move 19 files to the trash of the file space');
  await shows(/Move files to trash: /);
  await until(async () => (await ask('/runs')).runs[0].state === 'done');
  await goTo('/trash');
  await shows(/Trash of the file space[\s\S]*19/);
  await accessible('the trash of a file space');
  await press('Purge 19 files');
  await shows(/will be deleted for good/, '[role=alertdialog]');
  await answer(19);
  await shows(/Delete files: Trash of the file space/);
  await until(async () => (await ask('/runs')).runs[0].state === 'done');
  const [purge] = (await ask('/runs')).runs;
  assert.deepEqual([purge.done, purge.left], [{ messages: 19, bytes: total.bytes }, []]);
  assert.ok(purge.settled, 'the host’s figure has followed');
  const now = await ask('/level');
  assert.equal(planned.used - now.used, 1024 * Math.round((planned.used - now.used) / 1024));
  assert.ok(Math.abs(planned.used - now.used - total.bytes) <= 1024, 'the host counts in units of 1024 octets');
  assert.ok(Math.abs(planned.after - now.after) <= 1024, 'what was said before it');
  assert.equal(now.space.unexplained, 0);
  const left = [...files.tree.files.keys()].filter((path) => path.includes('Open%20days'));
  assert.equal(left.length, 2, 'one of each series');
});

test('a password that is refused is told where it is typed, and nothing is lost; a file space can be forgotten', async () => {
  await goTo('/level');
  await press('Add another file space');
  await shows(/Sign in with another user name/, '[role=dialog]');
  await (await driver.findElements(By.css('[role=dialog] input[type=radio]')))[1]?.click();
  await (await find('[role=dialog] input[name=user]')).sendKeys('secretary');
  await (await find('[role=dialog] input[name=password]')).sendKeys('wrong');
  await press('Sign in and measure');
  await shows(/does not take this password/, '[role=dialog]');
  assert.equal(await (await find('[role=dialog] input[name=user]')).getAttribute('value'), 'secretary');
  await (await find('[role=dialog] .link')).click();
  await press('Forget it');
  await shows(/Nothing changes on the server/, '[role=dialog]');
  await press('Forget');
  await shows(/of this quota is not mail/);
  assert.equal(files.tree.files.size > 50, true);
});
