import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, Key, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { cleanUp, USER, until } from '../harness';
import { devTools } from './chromium';
import {
  accessible,
  answer,
  ask,
  button,
  criteriaShown,
  find,
  goTo,
  located,
  openDemo,
  press,
  rests,
  shows,
  text,
} from './page';

let host: StandIn;
let driver: WebDriver;

before(async () => {
  ({ host, driver } = await openDemo());
});
after(cleanUp);

test('an address leads to its server; a wrong password is told at its field; one press opens the demo mailbox, and the level is there at once', async () => {
  await goTo('/');
  await (await find('#address')).sendKeys('nobody', Key.ENTER);
  await shows(/That is not a mail address/);
  await (await find('#address')).sendKeys(Key.chord(Key.CONTROL, 'a'), USER, Key.ENTER);
  await shows(/Found localhost in this installation’s list/);
  for (const [field, wanted] of [
    ['host', 'localhost'],
    ['port', `${host.tlsPort}`],
    ['security', 'tls'],
    ['user', USER],
  ])
    assert.equal(await (await find(`#${field}`)).getAttribute('value'), wanted);
  await (await find('#password')).sendKeys('wrong', Key.ENTER);
  await shows(/refused the user name or the password[\s\S]*your provider may want/);
  assert.equal(await (await find('#password')).getAttribute('aria-invalid'), 'true');
  await accessible('sign-in');
  // A line on which the details take long enough to look at what is there before them.
  host.faults.hide = ['COMPRESS=DEFLATE'];
  host.faults.bytesPerSecond = 500_000;
  await press('Open the demo mailbox');
  await shows(/96 %[\s\S]*must go/);
  assert.match(await text('.places'), /Level\n96 % full/);
  await shows(
    /sender of every message\s+done\s+Subjects[^\n]*\s+[\d,]+ of 5,209[\s\S]*Who fills the mailbox[\s\S]*final\./,
  );
  await accessible('the first ranking');
  const ranked = await ask('/first-ranking?by=address&limit=1000');
  host.faults.bytesPerSecond = 0;
  await until(async () => (await ask('/scans/last')).state === 'done');
  host.faults.hide = [];
  // What was told first is what the messages say.
  const { senders } = await ask('/senders?by=address&limit=1000');
  const figures = (all: { key: string; messages: number; bytes: number; unseen: number }[]) =>
    new Map(all.map(({ key, messages, bytes, unseen }) => [key, `${messages} ${bytes} ${unseen}`]));
  const [first, last] = [figures(ranked.senders), figures(senders)];
  const differing = [...last].filter(([key, value]) => first.get(key) !== value).map(([key]) => key);
  assert.deepEqual(differing, []);
  assert.deepEqual((await ask('/first-ranking')).senders, []);
});

test('the largest by keyboard and two senders go into the plan; the run moves them; the purge wins them back to the octet', async () => {
  await goTo('/sift?where=not%20guarded');
  const grid = await find('[role=grid]');
  await shows(/[1-4],\d\d\d match/);
  await grid.sendKeys(' ', ...Array.from({ length: 11 }, () => Key.chord(Key.SHIFT, Key.ARROW_DOWN)));
  await shows(/12 marked · 1\d\d\.\d MiB/);
  await grid.sendKeys(Key.DELETE);
  await shows(/1 lot · 12 messages/, '.strip');
  await goTo('/senders?by=address&order=messages');
  const senders = await find('[role=treegrid]');
  await shows(/station@wx/);
  await senders.sendKeys(Key.ENTER);
  await shows(/Evidence for keeping[\s\S]*Newest/, '[role=dialog]');
  await (await find('[role=dialog]')).sendKeys(Key.ESCAPE);
  await senders.sendKeys(' ', Key.ARROW_DOWN, ' ');
  await shows(/2 marked/);
  await senders.sendKeys(Key.DELETE);
  await shows(/3 lots/, '.strip');
  const plan = await ask('/lots');
  await (await find('.strip a.button')).click();
  await shows(/The plan: 3 lots/);
  const move = await button(`Move ${plan.total.messages.toLocaleString('en-GB')} messages to the trash`);
  await move.click();
  await until(async () => (await ask('/runs')).runs[0]?.state === 'done');
  await shows(/Run 1 is done/);
  const [run] = (await ask('/runs')).runs;
  assert.deepEqual([run.done, run.left], [plan.total, []]);
  await goTo('/trash');
  const { trash, trashGuarded } = await ask('/level');
  const purge = `Purge ${(trash.messages - trashGuarded.messages).toLocaleString('en-GB')} messages`;
  await press(purge);
  await shows(/Tamsel can’t bring them back/, '[role=alertdialog]');
  await answer(trash.messages - trashGuarded.messages);
  await until(
    async () => (await ask('/runs')).runs[0]?.action === 'purge' && (await ask('/runs')).runs[0].state === 'done',
  );
  const [purged] = (await ask('/runs')).runs;
  assert.equal(purged.before.counted - purged.after.counted, purged.asked.bytes);
  assert.ok(Math.abs(purged.before.used - purged.after.used - purged.asked.bytes) <= 1024);
  assert.equal(host.mailbox.folder('Trash')?.messages.length, trashGuarded.messages);
  await goTo('/ledger');
  await shows(/counted to the octet; the server’s figure agrees/);
  await shows(/Target reached/, '.tank');
});

test('everything that matches but three; typed criteria and controls agree; reload and back keep the state', async () => {
  await goTo('/sift');
  const criteria = await find('[data-criteria]');
  await criteria.sendKeys('size > 10 PB', Key.ENTER);
  await shows(/At character 11: expected a unit/);
  await criteria.sendKeys(Key.chord(Key.CONTROL, 'a'), 'size >= 100 KiB and unflagged', Key.ENTER);
  await until(async () => (await driver.getCurrentUrl()).includes('where='));
  await find('[aria-label="Remove size >= 100 KiB"]');
  await driver.navigate().refresh();
  assert.equal(await (await find('[data-criteria]')).getAttribute('value'), 'size >= 100 KiB and unflagged');
  const grid = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  await grid.sendKeys(Key.chord(Key.CONTROL, 'a'), ' ', Key.ARROW_DOWN, ' ', Key.ARROW_DOWN, ' ');
  await shows(/3 excluded/);
  const shown = await text('main');
  const match = Number(/([\d,]+) match/.exec(shown)?.[1]?.replace(',', ''));
  const marked = Number(/([\d,]+) marked/.exec(shown)?.[1]?.replace(',', ''));
  assert.equal(marked, match - 3);
  await (await find('[data-bar][title^="Mailings: "]')).click();
  await until(async () => (await criteriaShown()) === 'size >= 100 KiB and unflagged and category = mailings');
  await shows(new RegExp(`${marked.toLocaleString('en-GB')} marked`));
  await press('Add a condition');
  await (await find('[aria-label="Field"]')).sendKeys('age');
  await (await find('[aria-label="Value"]')).sendKeys('2y', Key.ENTER);
  await until(async () => (await criteriaShown()).endsWith('category = mailings and age >= 2y'));
  await driver.navigate().back();
  await until(async () => (await criteriaShown()).endsWith('category = mailings'));
  await driver.navigate().forward();
  await until(async () => (await criteriaShown()).endsWith('age >= 2y'));
  await driver.navigate().back();
  await driver.navigate().back();
  await until(async () => (await criteriaShown()) === 'size >= 100 KiB and unflagged');
  const look = await find('[role=grid]');
  await look.sendKeys(Key.ENTER);
  await shows(/Written[\s\S]*Folder[\s\S]*Category/, '[role=dialog]');
});

test('a brush over the field narrows every linked view, exactly as the server counts; its edges move by keys', async () => {
  await goTo('/sift');
  const field = await find('[data-field]');
  await find('[role=row][aria-selected]');
  const { width, height } = await field.getRect();
  const at = (x: number, y: number) => ({
    origin: field,
    x: Math.round((x - 0.5) * width),
    y: Math.round((y - 0.5) * height),
  });
  await driver
    .actions()
    .move(at(0.02, 0.2))
    .press()
    .move(at(0.3, 0.3))
    .move(at(0.55, 0.4))
    .move(at(0.62, 0.46))
    .release()
    .perform();
  await until(async () => (await criteriaShown()).startsWith('size >='));
  await exact();
  const before = await criteriaShown();
  assert.match(before, /^size >= [\d.]+ [KM]iB and received < \d{4}-\d\d-\d\d$/);
  const edge = await find('[aria-label="At least this large"]');
  await edge.sendKeys(Key.ARROW_UP, Key.ARROW_UP);
  await until(async () => (await criteriaShown()) !== before);
  await exact();
  await edge.sendKeys(Key.ESCAPE);
  await until(async () => (await criteriaShown()) === '');
  await press('Big and old');
  await until(async () => (await criteriaShown()) === 'size >= 5 MiB and age > 1y');
  await exact();
});

/** Every figure that Sift shows under its criteria is what the API counts for them. */
async function exact(): Promise<void> {
  const where = await criteriaShown();
  await until(async () => (await (await find('[data-where]')).getAttribute('data-where')) === where);
  const { total } = await ask(`/messages?limit=1&where=${encodeURIComponent(where)}`);
  await shows(new RegExp(`${total.messages.toLocaleString('en-GB')} match`));
  for (const [name, extra] of [
    ['Letters', 'category = letters'],
    ['Mailings', 'category = mailings'],
    ['INBOX', 'folder = INBOX'],
    ['documents', 'kind = document'],
    ['unread', 'unseen'],
  ] as const) {
    const { total: part } = await ask(`/messages?limit=1&where=${encodeURIComponent(`${where} and ${extra}`)}`);
    const bar = await find(`[data-bar][title^="${name}: "]`);
    assert.equal(await bar.getAttribute('title'), `${name}: ${part.messages.toLocaleString('en-GB')}`, where);
  }
}

test('a category that the user corrects changes at once; words in the body are found; criteria are kept', async () => {
  await goTo('/sift?where=category%20%3D%20automatic');
  const grid = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  const before = Number(/([\d,]+) match/.exec(await text('main'))?.[1]?.replace(',', ''));
  await grid.sendKeys(Key.ENTER);
  const choice = await find('[role=dialog] select');
  await choice.sendKeys('Invitations');
  await (await find('[role=dialog]')).sendKeys(Key.ESCAPE);
  await until(async () => Number(/([\d,]+) match/.exec(await text('main'))?.[1]?.replace(',', '')) < before);
  const { corrections } = await ask('/categories');
  assert.deepEqual(
    corrections.map(({ category }: { category: string }) => category),
    ['invitations'],
  );
  await goTo('/sift?where=text%20~%20hedge');
  // The host composes every message to look into it, and until it has, the answer is to come again.
  const found = () => ask('/messages?limit=1&where=text%20~%20hedge');
  await until(async () => (await found()).total !== undefined);
  const { total } = await found();
  assert.ok(total.messages > 0);
  await shows(new RegExp(`${total.messages.toLocaleString('en-GB')} match`));
  await press('Saved filters');
  await (await find('#kept-name')).sendKeys('of hedges', Key.ENTER);
  await until(async () => (await ask('/filters')).filters.length === 1);
  await goTo('/sift?where=category%20%3D%20misc');
  await shows(/isn’t valid. You see everything/);
  await press('Saved filters');
  await (await find('[title="text ~ hedge"]')).click();
  await until(async () => (await criteriaShown()) === 'text ~ hedge');
});

test('Level shows years by size, what it would take, and takes a folder whole into the plan', async () => {
  await driver.executeScript(
    `return fetch('/api/accounts/1/settings', { method: 'PATCH', headers: { 'content-type': 'application/json' }, body: '{"target":{"share":0.2}}' }).then(() => true)`,
  );
  await goTo('/level');
  await shows(/By year and size[\s\S]*take half[\s\S]*Ways to reach the target/);
  const ways = await driver.findElements(By.css('.way'));
  assert.equal(ways.length, 4);
  const where = new URL((await (await find('.way a')).getAttribute('href')) as string).searchParams.get('where') ?? '';
  const { total } = await ask(`/messages?limit=1&where=${encodeURIComponent(where)}`);
  assert.match(await text('.way'), new RegExp(`${total.messages.toLocaleString('en-GB')} message`));
  const lots = (await ask('/lots')).lots.length;
  await (await find('[aria-label="Add Committee to the plan"]')).click();
  await (await find('[role=menuitem]:last-child')).click();
  await until(async () => (await ask('/lots')).lots.length === lots + 1);
  const lot = (await ask('/lots')).lots.find(({ label }: { label: string }) => label === 'under = Committee');
  const counted = await ask('/messages?limit=1&where=under%20%3D%20Committee');
  assert.equal(lot.messages + lot.guarded.messages, counted.total.messages);
  await ask('/lots');
  await driver.executeScript(`return fetch('/api/accounts/1/lots/${lot.id}', { method: 'DELETE' }).then(() => true)`);
});

test('three messages are taken back from the trash to where they came from', async () => {
  const there = () => host.mailbox.folder('Bees')?.messages.length ?? 0;
  const before = there();
  const { total } = await ask('/messages?limit=1&where=folder%20%3D%20Bees%20and%20not%20guarded');
  await goTo('/sift?where=folder%20%3D%20Bees');
  const grid = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  await grid.sendKeys(Key.chord(Key.CONTROL, 'a'), Key.DELETE);
  await shows(/1 lot/, '.strip');
  await goTo('/review');
  await (await located(By.css('main .button-chief'))).click();
  await until(() => there() === before - total.messages);
  await until(async () => (await ask('/runs')).runs[0].state === 'done');
  await goTo('/trash?where=subject%20~%20bees');
  const trash = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  await trash.sendKeys(' ', Key.chord(Key.SHIFT, Key.ARROW_DOWN), Key.chord(Key.SHIFT, Key.ARROW_DOWN));
  await shows(/3 marked/);
  await press('Restore');
  await until(() => there() === before - total.messages + 3);
  assert.ok(before > 100);
});

test('where a copy has no room, what was left can be purged directly, as a question of its own', async () => {
  host.faults.hide = ['MOVE'];
  const { mailbox } = host;
  const ballast = Buffer.alloc(mailbox.limit - mailbox.used() - 60_000, 'x');
  mailbox.append(
    mailbox.folder('Archive') as never,
    Buffer.concat([Buffer.from('Subject: ballast\r\n\r\n'), ballast]),
    1_700_000_000,
    [],
  );
  await goTo('/sift?where=folder%20%3D%20INBOX%20and%20size%20%3E%20100%20kB');
  const grid = await find('[role=grid]');
  await find('[role=row][aria-selected]');
  await grid.sendKeys(Key.chord(Key.CONTROL, 'a'), Key.DELETE);
  await shows(/1 lot/, '.strip');
  await goTo('/review');
  await (await located(By.css('main .button-chief'))).click();
  await until(async () => {
    const [{ label, state }] = (await ask('/runs')).runs;
    return label.includes('INBOX') && state === 'done';
  });
  const left = (await ask('/runs')).runs[0].left.find(
    ({ reason }: { reason: string }) => reason === 'no-room',
  ).messages;
  assert.ok(left > 0);
  await goTo(`/ledger?run=${(await ask('/runs')).runs[0].id}`);
  await press('Purge these directly');
  await shows(/without going to the trash/, '[role=alertdialog]');
  const before = mailbox.folder('INBOX')?.messages.length ?? 0;
  await answer(left);
  await until(() => mailbox.folder('INBOX')?.messages.length === before - left);
  host.faults.hide = [];
});

test('Upkeep says when the mailbox is full as the server counts it, with a range, and what fills it', async () => {
  // Octets or messages, whichever are at their limit first. The server's figure may be read again at any moment, so what the page
  // shows is held against what the API said just before it was opened, or says just after.
  const first = async (): Promise<{ what: string; likely: string }> =>
    (await ask('/forecast')).dates
      .filter(({ what, likely }: { what: string; likely: string | null }) => /^full/.test(what) && likely !== null)
      .sort((a: { likely: string }, b: { likely: string }) => Date.parse(a.likely) - Date.parse(b.likely))[0];
  await until(async () => {
    const before = await first();
    await goTo('/upkeep');
    await shows(/(Full|No room for more messages) in about \d+ (days?|months|years), on \d{4}-\d{2}-\d{2}/);
    const heading = await (await find('main h2')).getText();
    const [, day] = /, on (\S+)/.exec(heading) ?? [];
    return [before, await first()].some(
      ({ what, likely }) =>
        heading.startsWith(what === 'full' ? 'Full' : 'No room for more messages') &&
        Math.abs(Date.parse(day ?? '') - Date.parse(likely)) < 2 * 86_400_000,
    );
  });
  const { growth, categories } = await ask('/forecast');
  await shows(/One time in ten it is full before [A-Z][a-z]+ \d{4}; one time in ten (after [A-Z]|not within)/);
  await shows(new RegExp(`in the last ${growth.months} months`));
  const [most] = [...categories].sort((a: { bytes: number }, b: { bytes: number }) => b.bytes - a.bytes);
  await shows(new RegExp(`What comes in and stays, a month[\\s\\S]*Bytes\\s+${most.category}`, 'i'));
  const rows = await driver.findElements(By.css('.sr-only tbody tr'));
  assert.ok(rows.length >= 6, 'the chart is a table for who can’t see it');
});

test('axe-core finds nothing on any place, wide and light, narrow and dark; nothing is wider than a phone or draws rows out of view', async () => {
  for (const [width, scheme] of [
    [1280, 'light'],
    [360, 'dark'],
  ] as const) {
    await devTools(driver, 'Emulation.setDeviceMetricsOverride', {
      width,
      height: 800,
      deviceScaleFactor: 1,
      mobile: false,
    });
    await devTools(driver, 'Emulation.setEmulatedMedia', {
      features: [{ name: 'prefers-color-scheme', value: scheme }],
    });
    for (const [index, place] of [
      'level',
      'sift',
      'files',
      'senders',
      'suggestions',
      'review',
      'guards',
      'trash',
      'archive',
      'ledger',
      'upkeep',
    ].entries()) {
      await goTo(`/${place}`);
      await find('main .card');
      await find('.tank-legend');
      if (width > 400) await rests();
      // It looks at all wide ones, and at every second narrow one.
      if (width > 400 || index % 2 === 0) await accessible(`${place}, ${scheme}, ${width}`);
      const overflow = await driver.executeScript<number>(
        'return document.documentElement.scrollWidth - document.documentElement.clientWidth',
      );
      assert.ok(overflow <= 0, `${place} is ${overflow} px wider than ${width}`);
      const drawn = (await driver.findElements(By.css('[role=row], [role=option]'))).length;
      assert.ok(drawn < 120, `${place} at ${width} px draws ${drawn} rows, in view or not`);
    }
  }
});
