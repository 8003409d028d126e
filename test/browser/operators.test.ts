import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { By, type WebDriver } from 'selenium-webdriver';
import type { StandIn } from '../../stand-in/host';
import { type HostedMailbox, hostedMailboxes, OPERATOR } from '../../stand-in/scenario/host';
import { App, cleanUp, DAY, startStandIn, tinyScenario, until } from '../harness';
import { accessible, find, goTo, located, openPage, press, shows, text } from './page';

let host: StandIn;
let driver: WebDriver;
let app: App;

before(async () => {
  host = await startStandIn({
    scenario: tinyScenario(),
    hosted: hostedMailboxes(DAY, 'small'),
    hostedMessageLimit: 12_500,
    operators: [OPERATOR],
  });
  app = await App.start({ authority: host.authority });
  driver = await openPage(app);
});
after(cleanUp);

/** Types into a field in place of what is there. */
async function type(css: string, value: string): Promise<void> {
  const field = await find(css);
  await field.clear();
  await field.sendKeys(value);
}

const rows = async () => (await driver.findElements(By.css('[role=grid] [role=row][aria-selected]'))).length;

test('the operator’s whole path: signed in, a sheet checked and added, measured, narrowed, a mailbox opened with a reason, and all of it told', async () => {
  await goTo('/sign-in');
  await (await located(By.linkText('Do you look after other people’s mailboxes?'))).click();
  await find('#mailbox');
  await accessible('where an operator signs in');
  await type('#host', 'localhost');
  await type('#port', `${host.tlsPort}`);
  await type('#user', OPERATOR.user);
  await type('#password', 'not this one');
  await press('Sign in');
  await shows(/refused the user name or the password/);
  await type('#password', OPERATOR.password);
  await press('Sign in');
  await shows(/No mailboxes yet/);
  await accessible('a host without mailboxes');

  // A line that is wrong keeps the whole sheet out, and is told by its number.
  const users = hostedMailboxes(DAY, 'small').map(({ user }) => user);
  const sheet = (limit: string) =>
    ['address,limit,note', ...users.map((user, index) => `${user},${index === 1 ? limit : ''},`)].join('\n');
  await press('Add mailboxes');
  await type('[role=dialog] textarea', sheet('five sheds'));
  await press('Check the sheet');
  await shows(/1 line is wrong. Nothing was added.\s+Line 3: “five sheds” is not a limit/);
  await type('[role=dialog] textarea', sheet('5 GiB'));
  await press('Check the sheet');
  await shows(/39 mailboxes are new, 0 are there already/);
  await accessible('a sheet that was checked');
  await press('Add 39 mailboxes');
  await shows(/39 in 2 domains/);
  await until(async () => /Measure all again/.test(await text('main')));
  await shows(/39 mailboxes, 2 domains\s+2\.\d\d GiB of/);
  await shows(/saltmarshlane\.example\s+20/);
  await accessible('the mailboxes of a host');

  // The fullest first; then those that could not be signed in to; then by words.
  assert.match(await text('[role=grid]'), /plots@saltmarshlane\.example\s+100 %[\s\S]*nothing comes in/);
  await (await find('main select')).sendKeys('not signed in');
  await shows(/1 of 39 mailboxes/);
  assert.match(await text('[role=grid]'), /hut@marshnet\.example/);
  assert.match(await driver.getCurrentUrl(), /state=not-signed-in/);
  await goTo('/mailboxes?q=marsh+bees');
  await until(async () => (await rows()) === 1);

  // What is known of a mailbox, and what a person adds to it.
  await press('bees@saltmarshlane.example');
  await shows(/In use[\s\S]*says the server[\s\S]*Measured/, '[role=dialog]');
  await type('[name=target]', '20');
  await type('[name=note]', 'the bee keepers');
  await press('Save');
  await shows(/Saved\./, '[role=dialog]');
  await accessible('one mailbox of a host');
  const open = await find('[role=dialog] form input');
  await open.sendKeys('They can’t find the swarm list');
  await press('Open it');
  await find('.tank-legend');
  await shows(/bees@saltmarshlane\.example/);
  await goTo('/ledger');
  await shows(/Opened by postmaster@saltmarshlane\.example for its owner[\s\S]*“They can’t find the swarm list”/);
  await accessible('the ledger of a mailbox that was opened');

  await goTo('/mailboxes?view=acts');
  await shows(/bees@saltmarshlane\.example\s+Opened the mailbox: “They can’t find the swarm list”/);
  await accessible('what an operator did');
  await goTo('/mailboxes');
  await shows(/above target/);
  assert.equal(
    (await app.database.query('select 1 from account where sign_in_as <> $1', [''])).rowCount,
    1,
    'one mailbox was opened, and no other',
  );
});

test('one decision for several mailboxes is tried first, asked once, and told in the end', async () => {
  await goTo('/mailboxes?q=shop');
  await until(async () => (await rows()) === 1);
  await (await find('[role=grid]')).sendKeys(' ');
  await shows(/1 marked/);
  await press('One decision for several');
  await shows(/For the mailbox that you marked:\s+shop@saltmarshlane\.example/, '[role=dialog]');
  await type('[name=days]', '14');
  const reason = await driver.findElements(By.css('[role=dialog] input.field'));
  await reason.at(-1)?.sendKeys('The shop’s trash is full');
  await accessible('one decision for several mailboxes');
  await press('Try it on the mailbox');
  await shows(/Every mailbox was tried\. Nothing is moved or deleted before you decide/);
  await shows(/shop@saltmarshlane\.example\s+\d+ · [\s\S]*85 % → 7\d %/);
  await accessible('the question of a round');
  const asked = /Delete ([\d,]+) messages/.exec(await text('main'))?.[1] as string;
  await (await find('main .button-go')).click();
  await shows(/They can’t be brought back/, '[role=alertdialog]');
  await type('[role=alertdialog] input', asked);
  await (await find('[role=alertdialog] .button-go')).click();
  await shows(/1 done/);
  await accessible('a round that ended');
  await goTo('/mailboxes?q=shop');
  await shows(/shop@saltmarshlane\.example\s+7\d %/);
  await goTo('/mailboxes?view=acts');
  await shows(/shop@saltmarshlane\.example[\s\S]*“The shop’s trash is full”/);
});

test('measuring again shows how far it is, and a host that is away is told at its mailboxes', async () => {
  await goTo('/mailboxes?by=state&down=0');
  host.faults.latencyMs = 120;
  await press('Measure all again');
  await shows(/Measuring: \d+ to go/);
  await shows(/Measure all again/);
  host.faults.latencyMs = 0;
  host.faults.refuseSignIn = true;
  await press('Measure all again');
  await shows(/no longer accepts your password/);
  await accessible('an operator who is locked');
  host.faults.refuseSignIn = false;
});

test('a mailbox that is full by number is told in messages wherever others are told in octets, and one decision empties it', async () => {
  const catching = hostedMailboxes(DAY, 'small').find(({ user }) =>
    user.startsWith('everything-else'),
  ) as HostedMailbox;
  await goTo('/sign-in?another');
  await type('#host', 'localhost');
  await type('#port', `${host.tlsPort}`);
  await type('#user', catching.user);
  await type('#password', catching.password);
  await press('Sign in');
  await find('.tank-legend');
  const { rows: found } = await app.database.query('select id from account where user_name = $1 and sign_in_as = $2', [
    catching.user,
    '',
  ]);
  await goTo(`/level?mailbox=${found[0].id}`);
  await until(async () => /Scanned/.test(await text()));
  await shows(/12,494 of 12,500\s+messages[\s\S]*2,494 messages must go/, '.tank-head');
  await shows(/100 % full by number/);
  await accessible('the level of a mailbox that is full by number');
  await goTo(`/suggestions?mailbox=${found[0].id}`);
  await shows(/Another 2,4\d\d messages must go[\s\S]*All in Junk[\s\S]*12,307 messages/);
  await press('Take');
  await shows(/once the trash is purged, 9,\d{3} messages below the target/, '.strip');
  await goTo(`/review?mailbox=${found[0].id}`);
  await shows(/12,307 messages[\s\S]*After/);
});
