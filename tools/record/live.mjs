// Real counterparts on loopback, for the tests of what is tried live: an OpenID Connect provider and a SAML provider, each
// with an application, until this process ends. Says "ready" when they answer.
import { makeKeys, listen } from './world.mjs';
import { CLIENTS, Kit } from './kit.mjs';
import { startRp } from './systems/rp.mjs';

const [folder, fault = ''] = process.argv.slice(2);
process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0';
const pairs = makeKeys(folder);
for (const name of ['skerry-saml', 'skerry-oidc']) pairs(name);
CLIENTS['try-out'] = { client_id: 'try-out', token_endpoint_auth_method: 'none', application_type: 'native',
  redirect_uris: ['http://127.0.0.1/callback'], response_types: ['code'], grant_types: ['authorization_code', 'refresh_token'] };
await listen(folder);
const kit = new Kit(pairs, folder, 'python3');
await kit.op({ consent: fault === 'consent', without: fault === 'unknown-client' ? ['ticket-desk'] : [],
  change: fault === 'redirect-uri' ? { 'ticket-desk': { redirect_uris: ['https://tickets.northmere.example/back'] } } : {} });
startRp();
// `receiver:PORT` registers a service provider on that port of loopback.
const own = fault.startsWith('receiver:') ? `http://127.0.0.1:${fault.split(':')[1]}` : '';
kit.samlify({ change: own ? { [`${own}/saml/metadata`]: { acs: `${own}/saml/acs` } } : {}, without: fault === 'unknown-sp' ? ['https://roster.northmere.example/saml'] : [] });
kit.roster({ session: fault === 'cookie' ? 'HttpOnly; Secure; SameSite=Lax; Path=/elsewhere' : undefined });
console.log('ready');
