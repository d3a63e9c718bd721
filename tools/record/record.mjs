// Records every scenario in a browser: one export a scenario, with what a fair expert expects of it beside.
import fs from 'node:fs';
import path from 'node:path';
import { chromium } from 'playwright-core';
import { Kit } from './kit.mjs';
import { SCENARIOS } from './scenarios.mjs';
import { MORE } from './more.mjs';
import { SHELLS } from './shells.mjs';
import { clear, listen, makeKeys } from './world.mjs';

const [out, keys, python, only] = process.argv.slice(2);
process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0';
fs.mkdirSync(out, { recursive: true });
const pairs = makeKeys(keys);
for (const name of ['skerry-saml', 'skerry-oidc', 'skerry-old', 'harbourkey', 'harbourkey-new', 'galley', 'roster', 'berths', 'tidewater']) pairs(name);
const stop = await listen(keys);
const browser = await chromium.launch({
  executablePath: '/usr/bin/chromium',
  args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync',
    '--host-resolver-rules=MAP gone.northmere.example ~NOTFOUND, MAP closed.northmere.example 127.0.0.1:9, MAP *.example 127.0.0.1'],
});
const index = {};
for (const scenario of [...SCENARIOS, ...MORE, ...SHELLS]) {
  if (only && !new RegExp(only).test(scenario.name)) continue;
  clear();
  const kit = new Kit(pairs, keys, python);
  const file = path.join(out, `${scenario.name}.har`);
  const context = await browser.newContext({ ignoreHTTPSErrors: scenario.trust !== false, recordHar: { path: file, content: 'embed', mode: 'full' }, locale: scenario.locale || 'en-GB' });
  try {
    await scenario.set(kit);
    const page = await context.newPage();
    await scenario.drive(page, context, kit);
    const shown = (await Promise.all(context.pages().map((one) => one.innerText('body').catch(() => '')))).map((one) => one.replace(/\s+/g, ' ').slice(0, 90));
    console.log(scenario.name.padEnd(44), JSON.stringify(shown));
    index[scenario.name] = { what: scenario.what, works: scenario.works, expect: scenario.expect, ...(scenario.record && { record: scenario.record }) };
  } catch (error) {
    console.log(scenario.name.padEnd(44), 'NOT RECORDED', error.message.split('\n')[0], kit.said?.() || '');
  }
  await context.close();
  kit.stop();
}
await browser.close();
stop();
fs.writeFileSync(path.join(out, 'index.json'), JSON.stringify(index, null, 1));
process.exit(0);
