import { get } from 'node:http';
import { By, until as located, type WebDriver } from 'selenium-webdriver';
import { devTools, openChromium } from '../test/browser/chromium';
import { cleanUp, until } from '../test/harness';
import { filled } from './made-mailbox';

/**
 * Sift in headless Chromium over made-up mailboxes: from the request to a list that can be used, octets on the wire, and
 * from a pointer event to the frame that shows what it changed, along a stated path. Prints JSON and a table.
 */

/** The path of the pointer: the lower edge of the brush in from the corner, then along both edges, in shares of the field. */
const PATH = Array.from({ length: 60 }, (_, step) => ({
  x: 0.3 + 0.5 * (step / 60) * (0.6 + 0.4 * Math.sin(step / 6)),
  y: 0.3 + 0.4 * (step / 60) * (0.7 + 0.3 * Math.cos(step / 5)),
}));

/** Told when the criteria of what is shown have changed and the frame after that is out. */
const PAINTED = `
  window.moves = [];
  const field = document.querySelector('[data-field]');
  field.addEventListener('pointermove', (event) => { window.begun = event.timeStamp; }, true);
  new MutationObserver(() => requestAnimationFrame(() => {
    const { port1, port2 } = new MessageChannel();
    port1.onmessage = () => window.moves.push(performance.now() - window.begun);
    port2.postMessage(0);
  })).observe(document.querySelector('[data-where]'), { attributeFilter: ['data-where'] });`;

async function drag(driver: WebDriver): Promise<number[]> {
  const field = await driver.findElement(By.css('[data-field]'));
  const { x, y, width, height } = await field.getRect();
  await driver.executeScript(PAINTED);
  const mouse = (type: string, at: { x: number; y: number }) =>
    devTools(driver, 'Input.dispatchMouseEvent', {
      type,
      x: x + at.x * width,
      y: y + at.y * height,
      button: 'left',
      buttons: type === 'mouseReleased' ? 0 : 1,
      clickCount: 1,
    });
  await mouse('mousePressed', { x: 0.02, y: 0.18 });
  for (const at of PATH) {
    const before = await driver.executeScript<number>('return window.moves.length');
    await mouse('mouseMoved', at);
    await until(async () => (await driver.executeScript<number>('return window.moves.length')) > before, 10).catch(
      () => undefined,
    );
  }
  const moves = await driver.executeScript<number[]>('return window.moves');
  await mouse('mouseReleased', PATH.at(-1) as { x: number; y: number });
  return moves;
}

/** Octets of an answer as they come over the wire. */
function octetsOf(url: string, cookie: string): Promise<number> {
  return new Promise((resolve, reject) => {
    get(url, { headers: { cookie } }, (answer) => {
      let octets = 0;
      answer.on('data', (chunk: Buffer) => {
        octets += chunk.length;
      });
      answer.on('end', () => resolve(octets));
    }).on('error', reject);
  });
}

async function measure(count: number) {
  const { app, path } = await filled(count);
  const driver = await openChromium();
  await driver.get(`${app.origin}/sign-in`);
  const [name, value] = app.cookie.split('=') as [string, string];
  await driver.manage().addCookie({ name, value, httpOnly: true, sameSite: 'Strict' });
  const loads: number[] = [];
  for (let turn = 0; turn < 4; turn++) {
    await driver.get(`${app.origin}/sift`);
    await driver.wait(located.elementLocated(By.css('[role=row][aria-selected]')), 120_000);
    // From the request for the page to the first row in it; the first turn also builds the answer on the server.
    loads.push(await driver.executeScript<number>('return performance.now()'));
  }
  const wire = await octetsOf(`${app.origin}/api${path}/columns`, app.cookie);
  const moves = (await drag(driver)).sort((a, b) => a - b);
  const where = await driver.executeScript<string>(`return document.querySelector('[data-where]').dataset.where`);
  const shown = await driver.executeScript<string>(`return document.querySelector('main [role=status]').textContent`);
  const { total } = (await app.call('GET', `${path}/messages?limit=1&where=${encodeURIComponent(where)}`)).body;
  if (!shown.includes(total.messages.toLocaleString('en-GB')))
    throw new Error(`shown ${shown}, counted ${total.messages} for ${where}`);
  const at = (share: number) =>
    Math.round(moves[Math.min(moves.length - 1, Math.floor(moves.length * share))] as number);
  const rounded = (number: number) => Number(number.toPrecision(3));
  const warm = loads.slice(1).sort((a, b) => a - b);
  const result = {
    messages: count,
    'first load, ms': rounded(loads[0] as number),
    'load again, ms (median of 3)': rounded(warm[1] as number),
    'columns on the wire, MB': rounded(wire / 1e6),
    'moves timed': moves.length,
    'pointer to paint, median ms': at(0.5),
    'pointer to paint, p95 ms': at(0.95),
  };
  await cleanUp();
  return result;
}

const counts = process.argv.slice(2).map(Number).filter(Boolean);
const results = [];
for (const count of counts.length > 0 ? counts : [100_000, 1_000_000]) results.push(await measure(count));
process.stdout.write(`${JSON.stringify(results)}\n\n`);
for (const name of Object.keys(results[0] ?? {}) as (keyof (typeof results)[number])[])
  process.stdout.write(`${name.padEnd(40)}${results.map((result) => String(result[name]).padStart(12)).join('')}\n`);
process.exit();
