// What the scenarios are written with: the systems in their usual configuration, and what people do in the browser.
import { spawn } from 'node:child_process';
import * as jose from 'jose';
import { startOp } from './systems/op.mjs';
import { startNodeSaml, startSamlifyIdp, startSamlifySp } from './systems/saml.mjs';
import { proxyTo, serve } from './world.mjs';

export const CLIENTS = {
  'ticket-desk': { client_id: 'ticket-desk', client_secret: 'ticket-desk-secret-of-the-recording', redirect_uris: ['https://tickets.northmere.example/callback'],
    response_types: ['code', 'id_token', 'code id_token'], grant_types: ['authorization_code', 'implicit', 'refresh_token'], post_logout_redirect_uris: ['https://tickets.northmere.example/bye'] },
  'fuel-ledger': { client_id: 'fuel-ledger', client_secret: 'fuel-ledger-secret-of-the-recording', redirect_uris: ['https://fuel.northmere.example/signin-oidc'],
    response_types: ['code', 'id_token', 'code id_token'], grant_types: ['authorization_code', 'implicit', 'refresh_token'] },
  'chart-room': { client_id: 'chart-room', token_endpoint_auth_method: 'none', redirect_uris: ['https://charts.northmere.example/signin-callback'],
    response_types: ['code', 'id_token'], grant_types: ['authorization_code', 'implicit', 'refresh_token'] },
};

export class Kit {
  constructor(pairs, folder, python) { Object.assign(this, { pairs, folder, python, children: [], port: 9400 }); }

  /** The provider of Skerry Pilots for OpenID Connect; `change` alters single clients. */
  async op({ change = {}, without = [], pair: name = 'skerry-oidc', kid = 'skerry-2026', also = [], ...more } = {}) {
    const pair = this.pairs(name);
    const key = await jose.exportJWK(await jose.importPKCS8(pair.key, 'RS256', { extractable: true }));
    const clients = Object.entries(CLIENTS).filter(([name]) => !without.includes(name)).map(([name, one]) => ({ ...one, ...change[name] }));
    return startOp({ keys: [{ ...key, kid, use: 'sig', alg: 'RS256' }, ...also], clients, ...more });
  }

  /** The SAML provider of Skerry Pilots on samlify; `change` alters what is set for single applications. */
  samlify({ change = {}, without = [], ...more } = {}) {
    const sps = {
      'https://roster.northmere.example/saml': { acs: 'https://roster.northmere.example/saml/acs', slo: 'https://roster.northmere.example/saml/slo', relay: '/' },
      'https://berths.northmere.example/saml/': { acs: 'https://berths.northmere.example/saml/acs' },
    };
    for (const [name, one] of Object.entries(change)) sps[name] = { ...sps[name], ...one };
    for (const name of without) delete sps[name];
    return startSamlifyIdp({ pair: this.pairs('skerry-saml'), sps, ...more });
  }

  roster(more = {}) { return startNodeSaml({ idpCert: this.pairs('skerry-saml').cert, ...more }); }
  berths(more = {}) { return startSamlifySp({ idpCert: this.pairs('skerry-saml').cert, ...more }); }

  /** Systems on Python libraries, each by its host; `clock` shifts their clock ("+9m"). */
  async py(hosts, { clock = null } = {}) {
    const port = this.port++;
    const told = JSON.stringify({ keys: this.folder, port, hosts });
    const [command, args] = clock ? ['faketime', ['-f', clock, this.python]] : [this.python, []];
    const child = spawn(command, [...args, new URL('./systems/python_side.py', import.meta.url).pathname, told], { stdio: ['ignore', 'pipe', 'pipe'], detached: true });
    this.children.push(child);
    let said = '';
    child.stderr.on('data', (data) => { said += data; });
    await new Promise((done, fail) => {
      child.stdout.on('data', done);
      child.on('exit', () => fail(new Error(said)));
      setTimeout(() => fail(new Error(`not ready: ${said}`)), 20000).unref();
    });
    for (const host of Object.keys(hosts)) serve(host, proxyTo(port));
    this.said = () => said;
  }

  stop() { for (const one of this.children) { try { process.kill(-one.pid, 'SIGKILL'); } catch { /* gone already */ } } this.children = []; }
}

const bare = (pem) => pem.replace(/-----[^-]+-----|\s/g, '');

export function spMetadata(entityId, acs, { slo = null, cert = null, signed = false } = {}) {
  const key = cert ? `<md:KeyDescriptor><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data><ds:X509Certificate>${bare(cert)}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>` : '';
  const out = slo ? `<md:SingleLogoutService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="${slo}"/>` : '';
  return `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" entityID="${entityId}"><md:SPSSODescriptor AuthnRequestsSigned="${signed}" protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">${key}${out}<md:AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="${acs}" index="1" isDefault="true"/></md:SPSSODescriptor></md:EntityDescriptor>`;
}

export function idpMetadata(entityId, sso, cert, { slo = null, signed = false } = {}) {
  const out = slo ? `<md:SingleLogoutService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="${slo}"/>` : '';
  return `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" entityID="${entityId}"><md:IDPSSODescriptor WantAuthnRequestsSigned="${signed}" protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><md:KeyDescriptor use="signing"><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data><ds:X509Certificate>${bare(cert)}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>${out}<md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="${sso}"/><md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="${sso}/post"/></md:IDPSSODescriptor></md:EntityDescriptor>`;
}

/** What a person does at a sign-in page: name, password, Enter. */
export async function signIn(page, name = 'm.tern', password = 'correct-horse') {
  await page.waitForSelector('input[name=password]', { timeout: 8000 });
  await page.fill('input[name=username]', name);
  await page.fill('input[name=password]', password);
  await Promise.all([page.waitForLoadState('load'), page.click('#go')]);
  await settle(page);
}

export async function settle(page, ms = 350) {
  await page.waitForLoadState('networkidle', { timeout: 6000 }).catch(() => {});
  await page.waitForTimeout(ms);
}

export async function open(page, url) {
  await page.goto(url, { waitUntil: 'load', timeout: 8000 }).catch((error) => { if (!/ERR_|interrupted|NS_/.test(error.message)) throw error; });
  await settle(page);
}
