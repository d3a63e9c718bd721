// Applications on libraries of others, on loopback, that sign in at a provider told in JSON, until this process ends: one by
// OpenID Connect, one by SAML with encrypted assertions. Says "ready" when they answer.
import { listen, makeKeys } from './world.mjs';
import { startRp } from './systems/rp.mjs';
import { startNodeSaml } from './systems/saml.mjs';

const [folder, text] = process.argv.slice(2);
const { provider, certificate, decrypt } = JSON.parse(text);
process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0';
makeKeys(folder);
await listen(folder);
startRp({ issuer: provider, secret: null, responseMode: 'form_post', transaction: 'HttpOnly; Secure; SameSite=None; Path=/' });
startNodeSaml({ entryPoint: `${provider}/saml/sso`, idpCert: certificate, decrypt });
console.log('ready');
