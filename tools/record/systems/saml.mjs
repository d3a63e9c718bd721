// SAML on libraries of others: a provider on samlify; applications on node-saml and on samlify.
import crypto from 'node:crypto';
import { SAML } from '@node-saml/node-saml';
import samlify from 'samlify';
import { bodyOf, cookiesOf, page, redirect, serve } from '../world.mjs';
import { PEOPLE } from './op.mjs';

samlify.setSchemaValidator({ validate: async () => 'not validated here' });
const EMAIL = 'urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress';
const bare = (pem) => pem.replace(/-----[^-]+-----|\s/g, '');

export const redirectBinding = 'urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect';
export const postBinding = 'urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST';

function template({ extraAssertion = '' } = {}) {
  return '<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="{ID}" Version="2.0" IssueInstant="{IssueInstant}" Destination="{Destination}" InResponseTo="{InResponseTo}"><saml:Issuer>{Issuer}</saml:Issuer><samlp:Status><samlp:StatusCode Value="{StatusCode}"/></samlp:Status><saml:Assertion ID="{AssertionID}" Version="2.0" IssueInstant="{IssueInstant}"><saml:Issuer>{Issuer}</saml:Issuer><saml:Subject><saml:NameID Format="{NameIDFormat}">{NameID}</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData NotOnOrAfter="{SubjectConfirmationDataNotOnOrAfter}" Recipient="{SubjectRecipient}" InResponseTo="{InResponseTo}"/></saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="{ConditionsNotBefore}" NotOnOrAfter="{ConditionsNotOnOrAfter}"><saml:AudienceRestriction><saml:Audience>{Audience}</saml:Audience></saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant="{IssueInstant}" SessionIndex="{SessionIndex}"><saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>{AttributeStatement}</saml:Assertion></samlp:Response>';
}

/** A provider on samlify. `sps` maps entity IDs to what is set for them: acs, audience, recipient, cert (to encrypt to), minutes. */
export function startSamlifyIdp({ host = 'sso.skerry.example', pair, signWith = null, sps, assigned = null, format = EMAIL, sign = 'assertion', status = null,
  shift = 0, minutes = 5, nameOf = (name) => PEOPLE[name].email, roleOf = () => 'mate', wantSigned = false, formPage = null, dropRelay = false, noInResponse = false, alter = null, attribute = 'role', sign256 = true, otp = null, pause = 0, inResponse = null } = {}) {
  const entityID = `https://${host}/saml`;
  const key = signWith || pair;
  const idp = samlify.IdentityProvider({
    entityID, privateKey: key.key, signingCert: key.cert, nameIDFormat: [format], wantAuthnRequestsSigned: wantSigned,
    requestSignatureAlgorithm: sign256 ? 'http://www.w3.org/2001/04/xmldsig-more#rsa-sha256' : 'http://www.w3.org/2000/09/xmldsig#rsa-sha1',
    singleSignOnService: [{ Binding: redirectBinding, Location: `https://${host}/saml/sso` }, { Binding: postBinding, Location: `https://${host}/saml/sso` }],
    singleLogoutService: [{ Binding: redirectBinding, Location: `https://${host}/saml/slo` }],
    loginResponseTemplate: { context: template(), attributes: [{ name: attribute, valueTag: 'role', nameFormat: 'urn:oasis:names:tc:SAML:2.0:attrname-format:basic', valueXsiType: 'xs:string' }] },
    messageSigningOrder: 'sign-then-encrypt',
  });
  const signedIn = new Map();
  const asked = new Map();
  const answer = async (res, name, request, relay) => {
    const set = sps[request.issuer];
    const sp = samlify.ServiceProvider({
      entityID: request.issuer, wantAssertionsSigned: ['assertion', 'both'].includes(sign), wantMessageSigned: ['response', 'both'].includes(sign),
      assertionConsumerService: [{ Binding: postBinding, Location: set.acs }], ...(set.encryptTo && { encryptCert: set.encryptTo }),
    });
    idp.entitySetting.isAssertionEncrypted = Boolean(set.encryptTo);
    const now = new Date(Date.now() + shift), later = new Date(now.getTime() + minutes * 60000);
    const id = `_${crypto.randomUUID()}`;
    const fill = (context) => {
      const text = samlify.SamlLib.replaceTagsByValue(context, {
        ID: id, AssertionID: `_${crypto.randomUUID()}`, Destination: set.destination || set.acs, Audience: set.audience || request.issuer,
        SubjectRecipient: set.recipient || set.acs, NameIDFormat: format, NameID: nameOf(name), Issuer: set.issuer || entityID,
        IssueInstant: now.toISOString(), ConditionsNotBefore: now.toISOString(), ConditionsNotOnOrAfter: later.toISOString(),
        SubjectConfirmationDataNotOnOrAfter: later.toISOString(), InResponseTo: noInResponse ? '' : inResponse || request.id || '', StatusCode: status || 'urn:oasis:names:tc:SAML:2.0:status:Success',
        SessionIndex: `_s${crypto.randomUUID().slice(0, 8)}`, attrRole: roleOf(name),
      });
      return { id, context: request.id && !noInResponse ? text : text.replaceAll(' InResponseTo=""', '') };
    };
    const made = await idp.createLoginResponse(sp, { extract: { request: { id: request.id } } }, 'post', { email: nameOf(name) }, fill, false, relay);
    if (alter) made.context = Buffer.from(alter(Buffer.from(made.context, 'base64').toString())).toString('base64');
    const action = set.postTo || set.acs;
    const state = relay && !dropRelay ? `<input type="hidden" name="RelayState" value="${relay.replaceAll('"', '&quot;')}">` : '';
    page(res, 200, 'Skerry ID', `<form method="post" action="${action}"><input type="hidden" name="SAMLResponse" value="${made.context}">${state}<noscript><button>Go on</button></noscript></form><script>setTimeout(() => document.forms[0].submit(), ${pause})</script>`, formPage || {});
  };
  serve(host, async (req, res) => {
    const url = new URL(req.url, `https://${host}`);
    if (url.pathname === '/favicon.ico') { res.writeHead(204); return res.end(); }
    const who = signedIn.get(cookiesOf(req).skerry_sso);
    if (url.pathname === '/saml/slo') {
      if (url.searchParams.get('SAMLRequest')) {
        const request = await samlify.IdentityProvider({ ...idp.entitySetting, wantLogoutRequestSigned: false }).parseLogoutRequest(samlify.ServiceProvider({ entityID: 'x', authnRequestsSigned: false, assertionConsumerService: [] }), 'redirect', { query: Object.fromEntries(url.searchParams), octetString: '' });
        const set = sps[request.extract.issuer];
        const sp = samlify.ServiceProvider({ entityID: request.extract.issuer, assertionConsumerService: [], singleLogoutService: [{ Binding: redirectBinding, Location: set.slo }] });
        const made = idp.createLogoutResponse(sp, request, 'redirect', url.searchParams.get('RelayState') || '');
        signedIn.delete(cookiesOf(req).skerry_sso);
        return redirect(res, made.context, { 'set-cookie': 'skerry_sso=; Max-Age=0; Path=/' });
      }
    }
    if (url.pathname === '/portal') {
      if (!who) { const id = crypto.randomUUID(); asked.set(id, { portal: url.searchParams.get('to') }); return redirect(res, `/sign-in?id=${id}`); }
      return answer(res, who, { issuer: url.searchParams.get('to') }, sps[url.searchParams.get('to')].relay);
    }
    if (url.pathname === '/saml/sso') {
      const given = req.method === 'POST' ? new URLSearchParams(await bodyOf(req)) : url.searchParams;
      const raw = Buffer.from(given.get('SAMLRequest') || '', 'base64');
      const { inflateRawSync } = await import('node:zlib');
      const text = req.method === 'POST' ? raw.toString() : inflateRawSync(raw).toString();
      const request = { issuer: /Issuer[^>]*>([^<]+)</.exec(text)?.[1]?.trim(), id: /\bID="([^"]+)"/.exec(text)?.[1], acs: /AssertionConsumerServiceURL="([^"]+)"/.exec(text)?.[1], passive: /IsPassive="true"/.test(text) };
      const set = sps[request.issuer];
      if (!set) return page(res, 404, 'Skerry ID', `<h1>Unknown application</h1><p>The application ${request.issuer} is not registered here.</p>`);
      if (request.acs && request.acs !== set.acs && set.strict !== false) return page(res, 400, 'Skerry ID', `<h1>Bad request</h1><p>The AssertionConsumerServiceURL ${request.acs} is not registered for ${request.issuer}.</p>`);
      if (wantSigned && !given.get('Signature') && !/Signature/.test(text)) return page(res, 400, 'Skerry ID', '<h1>Bad request</h1><p>The authentication request must be signed.</p>');
      if (who) return answer(res, who, request, given.get('RelayState'));
      const id = crypto.randomUUID();
      asked.set(id, { request, relay: given.get('RelayState') });
      return redirect(res, `/sign-in?id=${id}`);
    }
    if (url.pathname === '/sign-in') {
      const id = url.searchParams.get('id');
      if (req.method === 'GET') return page(res, 200, 'Skerry ID', form(id));
      const given = new URLSearchParams(await bodyOf(req));
      const name = given.get('username');
      if (!PEOPLE[name] || given.get('password') !== 'correct-horse') return page(res, 200, 'Skerry ID', `<p role="alert">Wrong name or password.</p>${form(id)}`);
      if (otp && given.get('otp') !== otp) return page(res, 200, 'Skerry ID', second(id, name, given.has('otp')));
      const held = asked.get(id);
      const target = held.request?.issuer || held.portal;
      if (assigned && !(assigned[target] || []).includes(name)) return page(res, 200, 'Skerry ID', `<h1>Access denied</h1><p>${PEOPLE[name].email} is not assigned to the application ${target}.</p>`);
      const session = crypto.randomUUID();
      signedIn.set(session, name);
      res.setHeader('set-cookie', `skerry_sso=${session}; HttpOnly; Secure; SameSite=None; Path=/`);
      if (held.portal) return redirect(res, `/portal?to=${encodeURIComponent(held.portal)}`);
      return answer(res, name, held.request, held.relay);
    }
    return page(res, 200, 'Skerry ID', '<h1>Skerry ID</h1>');
  });
  return { entityID, idp };
}

function second(id, name, wrong) {
  return `<h1>One more step</h1>${wrong ? '<p role="alert">Wrong code.</p>' : '<p>Enter the code from your device.</p>'}<form method="post" action="/sign-in?id=${id}"><input type="hidden" name="username" value="${name}"><input type="hidden" name="password" value="correct-horse"><input name="otp"><button id="go">Verify</button></form>`;
}

function form(id) {
  return `<h1>Sign in</h1><form method="post" action="/sign-in?id=${id}"><input name="username"><input type="password" name="password"><button id="go">Sign in</button></form>`;
}

/** An application on node-saml. */
export function startNodeSaml({ host = 'roster.northmere.example', entityId = `https://${host}/saml`, entryPoint = 'https://sso.skerry.example/saml/sso', idpCert, audience = entityId,
  session = 'HttpOnly; Secure; SameSite=Lax; Path=/', before = null, needBefore = false, title = 'Crew Roster', validate = 'never', accept = () => null, saml = {}, acsPath = '/saml/acs',
  decrypt = null, sayWhy = true, errorStatus = 500, landing = 'redirect', method = null, wantBack = true, startPath = null, home = null, failTo = null, failText = '', logoutUrl = null, sign = null } = {}) {
  const sp = new SAML({ entryPoint, issuer: entityId, callbackUrl: `https://${host}${acsPath}`, idpCert, audience, wantAuthnResponseSigned: false, wantAssertionsSigned: true,
    validateInResponseTo: validate, identifierFormat: EMAIL, acceptedClockSkewMs: 180000, ...(decrypt && { decryptionPvk: decrypt.key, decryptionCert: decrypt.cert }), ...(logoutUrl && { logoutUrl }),
    ...(sign && { privateKey: sign.key, signatureAlgorithm: 'sha256' }), disableRequestedAuthnContext: true, ...saml });
  const sessions = new Map();
  serve(host, async (req, res) => {
    const url = new URL(req.url, `https://${host}`);
    const cookies = cookiesOf(req);
    if (url.pathname === '/favicon.ico') { res.writeHead(204); return res.end(); }
    if (url.pathname === acsPath || (req.method === 'POST' && url.pathname.startsWith('/saml/'))) {
      if (url.pathname !== acsPath) return page(res, 404, title, '<h1>Not Found</h1>');
      const given = new URLSearchParams(await bodyOf(req));
      const fail = (why) => page(res, errorStatus, `${title}: error`, `<h1>Sign-in failed</h1><p>${sayWhy ? why : 'Something went wrong.'}</p>`);
      if (needBefore && !cookies.roster_login) return fail('The login session has been lost (cookie roster_login not received).');
      let profile;
      try { ({ profile } = await sp.validatePostResponseAsync({ SAMLResponse: given.get('SAMLResponse') })); } catch (error) { return fail(error.message.replaceAll('<', '&lt;')); }
      const refused = accept(profile);
      if (refused && failTo) return redirect(res, `${failTo}?error=1`);
      if (refused) return page(res, 403, title, `<h1>No access</h1><p>${refused}</p>`);
      const key = crypto.randomUUID();
      sessions.set(key, profile);
      const cookie = session ? { 'set-cookie': `roster_session=${key}; ${session}` } : {};
      if (landing === 'page') return shown(res, profile, title, cookie);
      const to = wantBack && /^\/|^https:\/\/roster/.test(given.get('RelayState') || '') ? given.get('RelayState') : '/';
      return redirect(res, to, cookie);
    }
    if (failTo && url.pathname === failTo) return page(res, 200, title, `<div role="alert">${failText}</div><p><a href="/">Sign in with single sign-on</a></p>`);
    if (url.pathname === '/saml/slo') return page(res, 200, title, '<h1>You are signed out</h1>');
    const held = sessions.get(cookies.roster_session);
    if (url.pathname === '/logout' && held) return redirect(res, await sp.getLogoutUrlAsync(held, '', {}), { 'set-cookie': 'roster_session=; Max-Age=0; Path=/' });
    if (held) return (home || shown)(res, held, title, {});
    if (startPath && url.pathname !== startPath) return page(res, 200, title, `<h1>Crew Roster</h1><p><a id="start" href="${startPath}">Sign in</a></p>`);
    const cookie = before ? { 'set-cookie': `roster_login=${crypto.randomUUID()}; ${before}` } : {};
    if (method === 'post') {
      res.writeHead(200, { 'content-type': 'text/html', ...cookie });
      return res.end((await sp.getAuthorizeFormAsync(url.pathname)).replace('window.location.reload', 'void'));
    }
    return redirect(res, await sp.getAuthorizeUrlAsync(url.pathname + url.search, host, {}), cookie);
  });
  return { metadata: () => sp.generateServiceProviderMetadata(decrypt?.cert ?? null, sign?.cert ?? null) };
}

function shown(res, profile, title, headers) {
  return page(res, 200, title, `<h1>Watches this week</h1><p>${profile.nameID} <a href="/logout" id="out">Sign out</a></p>`, headers);
}

/** An application on samlify. */
export function startSamlifySp({ host = 'berths.northmere.example', entityId = `https://${host}/saml/`, idpCert, idpEntity = 'https://sso.skerry.example/saml', sso = 'https://sso.skerry.example/saml/sso',
  signed = 'assertion', session = 'HttpOnly; Secure; SameSite=None; Path=/', title = 'Berth Planner', accounts = null, sign = null, decrypt = null, passive = false, loopAfter = null, check = true } = {}) {
  const acs = `https://${host}/saml/acs`;
  const idp = samlify.IdentityProvider({ entityID: idpEntity, signingCert: idpCert, singleSignOnService: [{ Binding: redirectBinding, Location: sso }], wantAuthnRequestsSigned: Boolean(sign),
    isAssertionEncrypted: Boolean(decrypt), messageSigningOrder: 'sign-then-encrypt', requestSignatureAlgorithm: 'http://www.w3.org/2001/04/xmldsig-more#rsa-sha256' });
  const sp = samlify.ServiceProvider({ entityID: entityId, assertionConsumerService: [{ Binding: postBinding, Location: acs }], authnRequestsSigned: Boolean(sign), wantAssertionsSigned: signed !== 'response', wantMessageSigned: signed !== 'assertion',
    ...(sign && { privateKey: sign.key, signingCert: sign.cert }), ...(decrypt && { encPrivateKey: decrypt.key, encryptCert: decrypt.cert }),
    requestSignatureAlgorithm: 'http://www.w3.org/2001/04/xmldsig-more#rsa-sha256', nameIDFormat: [EMAIL] });
  const sessions = new Map();
  serve(host, async (req, res) => {
    const url = new URL(req.url, `https://${host}`);
    if (url.pathname === '/favicon.ico') { res.writeHead(204); return res.end(); }
    if (url.pathname === '/saml/acs') {
      const given = Object.fromEntries(new URLSearchParams(await bodyOf(req)));
      let found;
      try { found = await sp.parseLoginResponse(idp, 'post', { body: given }); } catch (error) { return page(res, 400, title, `<h1>Sign-in failed</h1><p>${String(error.message || error)}</p>`); }
      const { nameID, audience } = found.extract;
      if (check && audience !== entityId) return page(res, 400, title, `<h1>Sign-in failed</h1><p>audience ${audience}, expected ${entityId}</p>`);
      if (accounts && !accounts.includes(nameID)) return page(res, 403, title, `<h1>No account</h1><p>There is no account for ${nameID} in Berth Planner.</p>`);
      const key = crypto.randomUUID();
      sessions.set(key, nameID);
      return redirect(res, '/', session ? { 'set-cookie': `berth_session=${key}; ${session}` } : {});
    }
    const held = sessions.get(cookiesOf(req).berth_session);
    if (held) return page(res, 200, title, `<h1>Berths</h1><p>${held}</p><a href="/logout">Sign out</a>`);
    return redirect(res, sp.createLoginRequest(idp, 'redirect').context);
  });
}
