import { Builder, type WebDriver } from 'selenium-webdriver';
import { Options, ServiceBuilder } from 'selenium-webdriver/chrome.js';
import { later, PATIENCE_MS, temporaryFolder } from '../harness';

/** Headless Chromium from Debian with an empty profile. */
export async function openChromium(width = 1280, height = 800): Promise<WebDriver> {
  const options = new Options();
  options.setChromeBinaryPath('/usr/bin/chromium');
  options.addArguments(
    '--headless=new',
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
    `--user-data-dir=${temporaryFolder()}`,
    `--window-size=${width},${height}`,
  );
  const driver = await new Builder()
    .forBrowser('chrome')
    .setChromeOptions(options)
    .setChromeService(new ServiceBuilder('/usr/bin/chromedriver'))
    .build();
  later(() => driver.quit());
  await driver.manage().setTimeouts({ script: PATIENCE_MS, pageLoad: PATIENCE_MS });
  return driver;
}

/** Sends a command of the browser's own protocol; the types of the general driver leave it out. */
export async function devTools(driver: WebDriver, command: string, parameters: object): Promise<void> {
  await (
    driver as unknown as { sendDevToolsCommand(command: string, parameters: object): Promise<void> }
  ).sendDevToolsCommand(command, parameters);
}
