// pictures of a page
import { writeFileSync } from 'node:fs';
import { mkdtempSync } from 'node:fs';
import { Builder, By, until } from 'selenium-webdriver';
import chrome from 'selenium-webdriver/chrome.js';
const [path, out, width = '1280', scheme = 'light', ...presses] = process.argv.slice(2);
const o = new chrome.Options();
o.setChromeBinaryPath('/usr/bin/chromium');
o.addArguments('--headless=new','--no-sandbox','--disable-gpu','--disable-quic','--no-first-run','--disable-background-networking','--disable-component-update','--disable-sync',`--user-data-dir=${mkdtempSync('/tmp/w/prof-')}`,`--window-size=${width},${process.env.H ?? 800}`);
const d = await new Builder().forBrowser('chrome').setChromeOptions(o).setChromeService(new chrome.ServiceBuilder('/usr/bin/chromedriver')).build();
try {
  await d.sendDevToolsCommand('Emulation.setDeviceMetricsOverride', { width: Number(width), height: Number(process.env.H ?? 800), deviceScaleFactor: 1, mobile: false });
  await d.sendDevToolsCommand('Emulation.setEmulatedMedia', { features: [{ name: 'prefers-color-scheme', value: scheme }] });
  await d.get(process.env.BASE + (process.env.START ?? '/'));
  if (process.env.PRESS) {
    const b = await d.wait(until.elementLocated(By.xpath(`//button[contains(., '${process.env.PRESS}')]`)), 20000);
    await d.sleep(800); await b.click(); await d.sleep(4000);
  }
  await d.get(process.env.BASE + path);
  await d.sleep(Number(process.env.WAIT ?? 4000));
  for (const press of presses) {
    const b = await d.wait(until.elementLocated(By.xpath(press.startsWith('//') ? press : `//button[contains(., '${press}')]`)), 10000);
    await d.executeScript('arguments[0].scrollIntoView({block:"center"})', b); await b.click(); await d.sleep(Number(process.env.BETWEEN ?? 2500));
  }
  if (process.env.SCROLL) await d.executeScript(`for (const e of document.querySelectorAll('main, [class*=overflow]')) e.scrollTop = ${process.env.SCROLL}; window.scrollTo(0, ${process.env.SCROLL})`), await d.sleep(500);
  writeFileSync(out, await d.takeScreenshot(), 'base64');
} finally { await d.quit(); }
