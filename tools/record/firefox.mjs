// A part of the scenarios in another browser: Debian's firefox-esr, whose network panel writes its own kind of export.
import fs from 'node:fs';
import path from 'node:path';
import puppeteer from 'puppeteer-core';
import { Kit } from './kit.mjs';
import { SCENARIOS } from './scenarios.mjs';
import { MORE } from './more.mjs';
import { SHELLS } from './shells.mjs';
import { clear, HOSTS, listen, makeKeys } from './world.mjs';

// What this browser's export shows otherwise: it begins late, says nothing of why a request got no answer, and keeps the
// answers that cross-origin rules held back.
const OTHERWISE = {
  'oidc-gone': [{ outcome: 'inconclusive', app: 'ticket-desk' }], 'oidc-closed': [{ outcome: 'inconclusive', app: 'ticket-desk' }],
  'oidc-strict-cookie': [{ outcome: 'broken', app: 'ticket-desk', first: ['session-cookie-lost', 'http-error', 'session-not-started'] }],
  'more-spa-verifier': [{ outcome: 'broken', app: 'chart-room', first: ['code-verifier-mismatch', 'token-request-refused'] }],
  'more-broker': [{ outcome: 'sound', app: 'ticket-desk' }],
  'spa-cors': [{ outcome: 'broken', app: 'chart-room', first: ['blocked-by-browser', 'token-request-refused'] }],
};
// Here it lost what the scenario is about.
const LEFT_OUT = ['saml-loop', 'oidc-wrong-password', 'more-other-app-refused', 'shell-saml-unknown'];
const [out, keys, python, only] = process.argv.slice(2);
process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0';
fs.mkdirSync(out, { recursive: true });
const pairs = makeKeys(keys);
const stop = await listen(keys);
const index = fs.existsSync(path.join(out, 'index.json')) ? JSON.parse(fs.readFileSync(path.join(out, 'index.json'))) : {};
for (const scenario of [...SCENARIOS, ...MORE, ...SHELLS]) {
  if (!new RegExp(only).test(scenario.name) || LEFT_OUT.includes(scenario.name)) continue;
  clear();
  const kit = new Kit(pairs, keys, python);
  const folder = fs.mkdtempSync('/tmp/exports-');
  const browser = await puppeteer.launch({
    browser: 'firefox', executablePath: '/usr/bin/firefox-esr', headless: false, acceptInsecureCerts: true, args: ['--devtools'],
    extraPrefsFirefox: {
      'devtools.netmonitor.har.enableAutoExportToFile': true, 'devtools.netmonitor.har.defaultLogDir': folder,
      'devtools.netmonitor.har.forceExport': true, 'devtools.netmonitor.har.includeResponseBodies': true,
      'devtools.netmonitor.har.pageLoadedTimeout': 1500, 'devtools.netmonitor.persistlog': true, 'devtools.netmonitor.har.multiple': true,
      'devtools.toolbox.selectedTool': 'netmonitor', 'devtools.toolbox.host': 'bottom', 'network.dns.localDomains': HOSTS.join(','), 'browser.shell.checkDefaultBrowser': false,
    },
  });
  try {
    await scenario.set(kit);
    const page = (await browser.pages())[0] || await browser.newPage();
    await new Promise((done) => setTimeout(done, 3000));
    await page.goto('http://portal.northmere.example/', { waitUntil: 'load', timeout: 8000 });
    await new Promise((done) => setTimeout(done, 3500));
    await scenario.drive(adapted(page), null, kit);
    await new Promise((done) => setTimeout(done, 4000));
    const shown = await page.evaluate('document.body.innerText.replace(/\\s+/g, " ").slice(0, 90)').catch((error) => error.message);
    const files = fs.readdirSync(folder).map((name) => path.join(folder, name));
    const logs = files.map((file) => JSON.parse(fs.readFileSync(file)).log);
    const entries = new Map();
    for (const log of logs) for (const entry of log.entries) entries.set(`${entry.startedDateTime} ${entry.request.method} ${entry.request.url}`, entry);
    const log = { ...logs.at(-1), entries: [...entries.values()].filter((one) => !one.request.url.startsWith('http://portal')).sort((a, b) => a.startedDateTime.localeCompare(b.startedDateTime)) };
    console.log(scenario.name.padEnd(40), files.length, 'files', log.entries?.length, 'entries', JSON.stringify(shown));
    const name = `${scenario.name}-firefox`;
    fs.writeFileSync(path.join(out, `${name}.har`), JSON.stringify({ log }));
    index[name] = { what: `${scenario.what} In another browser.`, works: scenario.works, expect: OTHERWISE[scenario.name] || scenario.expect, ...(scenario.record && { record: scenario.record }) };
  } catch (error) {
    console.log(scenario.name.padEnd(40), 'NOT RECORDED', error.message.split('\n')[0]);
  }
  await browser.close().catch(() => {});
  kit.stop();
}
stop();
fs.writeFileSync(path.join(out, 'index.json'), JSON.stringify(index, null, 1));
process.exit(0);

/** The few calls that the scenarios make, as this driver has them. */
function adapted(page) {
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  return {
    goto: (url) => page.goto(url, { waitUntil: 'load', timeout: 8000 }),
    waitForSelector: (selector, options) => page.waitForSelector(selector, options),
    fill: async (selector, text) => { await page.$eval(selector, (element, value) => { element.value = value; }, text); },
    click: (selector) => page.click(selector),
    waitForLoadState: () => wait(700), waitForTimeout: wait, reload: () => page.reload(), $: (selector) => page.$(selector), goBack: () => page.goBack(),
  };
}
