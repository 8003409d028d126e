import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, type WebDriver } from 'selenium-webdriver';
import type { FileSpaceServer } from '../../stand-in/webdav/server';
import { cleanUp, demoScenario, until, withoutPhotographs } from '../harness';
import {
  accessible,
  answer,
  ask,
  enterDemo,
  find,
  goTo,
  located,
  openDemo,
  press,
  pressPart,
  shows,
  text,
} from './page';

let files: FileSpaceServer;
let driver: WebDriver;

before(async () => {
  ({ files, driver } = await openDemo({ scenario: withoutPhotographs(demoScenario()) }));
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
  await located(By.xpath('//h2[.="Where the files are"]'));
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
  await (await located(By.xpath('//button[contains(., "Mailed, and kept as a file")]'))).click();
  await press('Compare them');
  await shows(/2 files are in your file space too/);
  const { groups } = await ask('/repeats/spaces');
  for (const { places } of groups) await shows(new RegExp(places[0].path));
  await accessible('files that are mailed and kept');
  const copies = groups.reduce((sum: number, { going }: { going: { files: number } }) => sum + going.files, 0);
  // The copies in the file space can be let go instead.
  await (await driver.findElements(By.css('main fieldset input[type=radio]')))[1]?.click();
  await shows(/2 copies in the file space can go/);
  await shows(/the message keeps it/);
  await accessible('the copies in the file space');
  await (await driver.findElements(By.css('main fieldset input[type=radio]')))[0]?.click();
  await press(`Add ${copies === 1 ? '1 copy' : `${copies} copies`} in the mail to the plan`);
  await shows(/0 copies in the mail can go · 0 B/);
  const [lot] = (await ask('/lots')).lots;
  assert.deepEqual([lot.label, lot.fate], ['Files that the file space has too', 'strip']);
  const { mail } = await ask('/level');
  await goTo('/review');
  await pressPart('Take the files out of');
  await until(async () => (await ask('/runs')).runs[0]?.state === 'done');
  const [run] = (await ask('/runs')).runs;
  assert.deepEqual([run.action, run.left], ['strip', []]);
  const won = mail.bytes - (await ask('/level')).mail.bytes;
  assert.ok(won > 0.99 * lot.bytes && won < 1.01 * lot.bytes, `${won} of ${lot.bytes}`);
});

test('attachments are moved to the file space: it is said before that this alone wins nothing, and they are taken out by the plan', async () => {
  await goTo('/files?where=kind%20%3D%20document%20and%20size%20%3C%20200%20kB%20and%20age%20%3E%206y');
  await press('Mark everything that matches');
  await press('Move to the file space');
  await shows(/One quota counts both, so moving alone wins nothing/, '[role=dialog]');
  await accessible('moving files to the file space');
  const folder = await find('[role=dialog] input.field');
  await folder.clear();
  await folder.sendKeys('../elsewhere');
  const put = By.xpath('//*[@role="dialog"]//button[starts-with(normalize-space(), "Put ")]');
  await (await driver.findElement(put)).click();
  await shows(/A folder can’t have this name/, '[role=dialog]');
  await folder.clear();
  await folder.sendKeys('From mail');
  await (await driver.findElement(put)).click();
  await until(async () => (await ask('/uploads')).uploads[0]?.state === 'done');
  const [upload] = (await ask('/uploads')).uploads;
  assert.deepEqual([upload.left, upload.done.files], [[], upload.asked.files]);
  await shows(new RegExp(`${upload.done.files} of ${upload.asked.files} lie there`));
  const lying = [...files.tree.files].filter(([path]) => path.startsWith('/files/From%20mail/'));
  assert.ok(lying.length > 0 && lying.length <= upload.done.files, 'those with the same octets lie there once');
  await accessible('Files with a move');
  await pressPart(`Add ${upload.done.files === 1 ? '1 file' : `${upload.done.files} files`} to the plan`);
  await shows(/In the plan: .*Review it/);
  const [lot] = (await ask('/lots')).lots;
  assert.deepEqual([lot.files, lot.unchecked, lot.fate], [upload.done.files, 0, 'strip']);
  await driver.executeScript(`return fetch('/api/accounts/1/lots/${lot.id}', { method: 'DELETE' })`);
  assert.equal((await ask('/level')).space.unexplained, 0);
});

test('Files shows them beside attachments, with where they lie; marked there they are in the plan', async () => {
  await goTo('/files');
  await shows(/Where it lies/);
  await pressPart('file space');
  await shows(/\d+ files · [\s\S]*Open day 2025\.mp4/);
  assert.doesNotMatch(await text('main'), /Mark .* of the file space/);
  const row = await located(By.xpath('//*[@role="row"][contains(., "Open day 2025.mp4")]'));
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

test('pictures are made smaller in the file space after one of them was shown before and after, and the originals come back', async () => {
  await goTo('/files?place=space&where=kind%20%3D%20picture');
  await press('Mark everything that matches');
  await press('Make pictures smaller');
  await shows(/A smaller picture takes the place of each/, '[role=dialog]');
  await shows(/Before, [\s\S]*Afterwards/, '[role=dialog]');
  await accessible('making pictures of a file space smaller');
  await press('Add to the plan');
  await until(async () => (await ask('/file-lots')).lots.length === 1);
  const [lot] = (await ask('/file-lots')).lots;
  assert.deepEqual([lot.fate, lot.shrinking.longest], ['shrink', 1600]);
  const before = new Map([...files.tree.files].map(([path, { size }]) => [path, size]));
  const { used } = await ask('/level');
  await goTo('/review');
  await shows(/made smaller, 1600 points at most/);
  await accessible('pictures of a file space to be made smaller');
  await press(`Make ${lot.files} files smaller`);
  await shows(/Make pictures smaller: /);
  await until(async () => (await ask('/runs')).runs[0].state === 'done');
  const [run] = (await ask('/runs')).runs;
  assert.equal(run.action, 'shrink');
  assert.ok(run.done.messages > 0 && run.added.bytes < 0.7 * run.done.bytes, JSON.stringify(run));
  assert.ok(Math.abs((await ask('/level')).used - used - run.added.bytes) <= 1024, 'until the purge both count');
  await driver.executeScript(
    `return fetch('/api/accounts/1/spaces/1/runs', { method: 'POST', headers: { 'content-type': 'application/json' },
       body: JSON.stringify({ action: 'restore', run: ${run.id} }) })`,
  );
  await until(
    async () => (await ask('/runs')).runs[0].action === 'restore' && (await ask('/runs')).runs[0].state === 'done',
  );
  for (const [path, size] of before) assert.equal(files.tree.files.get(path)?.size, size, path);
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
