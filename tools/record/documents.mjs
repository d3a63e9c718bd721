// The published documents of the providers, for the workspace beside the recordings.
import fs from 'node:fs';
import path from 'node:path';
import { Kit, idpMetadata } from './kit.mjs';
import { listen, makeKeys } from './world.mjs';

const [out, keys, python] = process.argv.slice(2);
process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0';
fs.mkdirSync(out, { recursive: true });
const pairs = makeKeys(keys);
const stop = await listen(keys);
const kit = new Kit(pairs, keys, python);
await kit.op();
await kit.py({ 'accounts.tidewater.example': { clients: {} } });
const save = async (name, url) => fs.writeFileSync(path.join(out, name), JSON.stringify(await (await fetch(url)).json(), null, 1));
await save('skerry.json', 'https://login.skerry.example/.well-known/openid-configuration');
await save('skerry.keys.json', 'https://login.skerry.example/jwks');
await kit.op({ host: 'id.northmere.example' });
await save('northmere.json', 'https://id.northmere.example/.well-known/openid-configuration');
await save('northmere.keys.json', 'https://id.northmere.example/jwks');
await save('tidewater.json', 'https://accounts.tidewater.example/.well-known/openid-configuration');
await save('tidewater.keys.json', 'https://accounts.tidewater.example/keys');
fs.writeFileSync(path.join(out, 'skerry.xml'), idpMetadata('https://sso.skerry.example/saml', 'https://sso.skerry.example/saml/sso', pairs('skerry-saml').cert, { slo: 'https://sso.skerry.example/saml/slo' }));
fs.writeFileSync(path.join(out, 'harbourkey.xml'), idpMetadata('https://idp.harbourkey.example/saml', 'https://idp.harbourkey.example/sso', pairs('harbourkey').cert, { slo: 'https://idp.harbourkey.example/slo' }));
kit.stop();
stop();
process.exit(0);
