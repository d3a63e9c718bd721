// More scenarios, each for a finding or a way of signing in that those of scenarios.mjs leave out. The expectations were
// written before any of the exports was diagnosed, and are told as there.
import * as jose from 'jose';
import { idpMetadata, open, settle, signIn, spMetadata } from './kit.mjs';
import { startRp } from './systems/rp.mjs';
import { startSpa } from './systems/spa.mjs';
import { between, bodyOf, handlerOf, page as html, serve } from './world.mjs';

const TICKETS = 'https://tickets.northmere.example/';
const FUEL = 'https://fuel.northmere.example/';
const CHARTS = 'https://charts.northmere.example/';
const ROSTER = 'https://roster.northmere.example/';
const BERTHS = 'https://berths.northmere.example/';
const GALLEY = 'https://galley.northmere.example/';
const SKERRY = 'https://login.skerry.example';
const ROSTER_ID = 'https://roster.northmere.example/saml';
const NONE = 'HttpOnly; Secure; SameSite=None; Path=/';
const sound = (app, more = {}) => ({ outcome: 'sound', app, ...more });
const broken = (app, first, more = {}) => ({ outcome: 'broken', app, first: [first].flat(), ...more });

export const MORE = [];
const scenario = (name, what, expect, set, drive, more = {}) => MORE.push({
  name, what, expect, works: expect.every((one) => one.outcome === 'sound'), set, drive, ...more });
const visit = (url, name = 'm.tern') => async (page) => { await open(page, url); await signIn(page, name); };
const verify = async (page, code) => { await page.fill('input[name=otp]', code); await Promise.all([page.waitForLoadState('load'), page.click('#go')]); await settle(page); };
const implicit = { responseType: 'id_token', responseMode: 'form_post', transaction: NONE };

// OpenID Connect: what goes to and fro.
scenario('more-nonce-lost', 'The application compares with another nonce than it sent, and says so.', [broken('ticket-desk', ['nonce-mismatch', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ ...implicit, breakNonce: true }); }, visit(TICKETS));
scenario('more-state-dropped', 'Something between drops the state on the way back; the application says that it is missing.', [broken('ticket-desk', 'state-mismatch')],
  async (kit) => { await kit.op(); startRp(); between('login.skerry.example', { leads: (to) => to.replace(/([?&])state=[^&]*&?/, '$1') }); }, visit(TICKETS));
scenario('more-other-issuer', 'The answer says that it comes from another provider (iss).', [broken('ticket-desk', ['response-issuer-mismatch'])],
  async (kit) => { await kit.op(); startRp(); between('login.skerry.example', { leads: (to) => to.replace(/iss=[^&]*/, 'iss=https%3A%2F%2Flogin.skerry.example%2Ftest') }); }, visit(TICKETS));
scenario('more-code-again', 'The page at the callback is loaded again: the code is sent a second time.', [broken('ticket-desk', ['code-reused', 'session-cookie-lost', 'state-mismatch', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ landing: 'page' }); }, async (page) => { await visit(TICKETS)(page); await page.reload(); await settle(page); });
scenario('more-code-late', 'The code lives for a second; the application redeems it after three, and its page says invalid_grant.', [broken('ticket-desk', ['token-request-refused', 'code-too-old', 'http-error'])],
  async (kit) => { await kit.op({ extra: { ttl: { AuthorizationCode: 1, AccessToken: 3600, IdToken: 3600, Session: 86400, Grant: 86400, Interaction: 3600 } } }); startRp({ wait: 3000 }); },
  async (page) => { await visit(TICKETS)(page); await page.waitForTimeout(3500); });
scenario('more-spa-code-late', 'The same in a single-page application: the request for tokens can be seen.', [broken('chart-room', ['code-too-old', 'token-request-refused'])],
  async (kit) => { await kit.op({ extra: { ttl: { AuthorizationCode: 1, AccessToken: 3600, IdToken: 3600, Session: 86400, Grant: 86400, Interaction: 3600 } } }); await startSpa({ fault: 'late' }); },
  async (page) => { await visit(CHARTS)(page); await page.waitForTimeout(3500); });
scenario('more-spa-verifier', 'The code verifier is not the one that the challenge was made of.', [broken('chart-room', 'code-verifier-mismatch')],
  async (kit) => { await kit.op(); await startSpa({ fault: 'verifier' }); }, visit(CHARTS));
scenario('more-spa-other-address', 'The request for tokens names another redirect URI than the first request.', [broken('chart-room', 'redirect-uri-mismatch')],
  async (kit) => { await kit.op(); await startSpa({ fault: 'other-address' }); }, visit(CHARTS));
scenario('more-spa-code-twice', 'The code is redeemed twice, and the second answer, an error, is what the page shows.', [broken('chart-room', 'code-reused')],
  async (kit) => { await kit.op(); await startSpa({ fault: 'twice' }); }, visit(CHARTS));
scenario('more-spa-renewal', 'Signed in; then the refresh token is refused.', [broken('chart-room', 'refresh-refused')],
  async (kit) => { await kit.op(); await startSpa({ scope: 'openid profile email offline_access', refresh: true, fault: 'renewal' }); }, visit(CHARTS));
scenario('more-fragment', 'The answer is asked for in the fragment, which a server never sees; the page says that there is no answer.', [broken('ticket-desk', ['wrong-binding', 'session-not-started', 'http-error', 'state-mismatch'])],
  async (kit) => { await kit.op(); startRp({ responseMode: 'fragment' }); }, visit(TICKETS));
scenario('more-http-callback', 'Behind its front the application names its callback with http; the provider refuses it.', [broken('ticket-desk', 'redirect-uri-mismatch')],
  async (kit) => { await kit.op(); startRp({ redirectUri: 'http://tickets.northmere.example/callback' }); }, async (page) => open(page, TICKETS));
scenario('more-callback-gone', 'The application names a callback that the provider has and that it does not serve itself: 404.', [broken('ticket-desk', ['http-error', 'redirect-uri-mismatch'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { redirect_uris: ['https://tickets.northmere.example/callback', 'https://tickets.northmere.example/old/callback'] } } });
    startRp({ params: { redirect_uri: 'https://tickets.northmere.example/old/callback' } });
    const rest = handlerOf('tickets.northmere.example');
    serve('tickets.northmere.example', (req, res) => (req.url.startsWith('/old/') ? html(res, 404, 'Ticket Desk', '<h1>Not Found</h1>') : rest(req, res))); }, visit(TICKETS));

// OpenID Connect: tokens.
scenario('more-key-rolled', 'The provider signs with a key that the saved key set does not have; the application fetches it and lets the user in.', [sound('ticket-desk', { has: ['record-contradicted'] })],
  async (kit) => { await kit.op({ pair: 'skerry-old', kid: 'skerry-2027' }); startRp({ ...implicit }); }, visit(TICKETS));
scenario('more-key-not-had', 'The same, and the application still holds the old key set: its page says that no key fits.', [broken('ticket-desk', ['key-id-unknown', 'signed-by-other-known-key', 'signed-by-untrusted-key'])],
  async (kit) => { await kit.op({ pair: 'roster', kid: 'skerry-2027' }); startRp({ ...implicit, accept: () => 'error: no applicable key found in the JSON Web Key Set' }); }, visit(TICKETS));
scenario('more-algorithm', 'The client is registered for ES256; the application takes only RS256.', [broken('ticket-desk', 'algorithm-unexpected')],
  async (kit) => { const { privateKey } = await jose.generateKeyPair('ES256', { extractable: true }); const also = [{ ...(await jose.exportJWK(privateKey)), kid: 'skerry-curve', use: 'sig', alg: 'ES256' }];
    await kit.op({ also, change: { 'ticket-desk': { id_token_signed_response_alg: 'ES256' } } }); startRp({ ...implicit }); }, visit(TICKETS),
  { record: [['apps/ticket-desk.toml', 'sign_in_url   =', 'token_algorithm = "RS256"\nsign_in_url   =']] });
scenario('more-too-old', 'The application wants a sign-in of the last seconds (max_age); something between drops that, and it refuses.', [sound('ticket-desk'), broken('ticket-desk', ['authentication-too-old'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { require_auth_time: true } } }); startRp({ ...implicit, params: { max_age: '2' }, accept: (claims) => (Date.now() / 1000 - claims.auth_time > 3 ? 'Please sign in again: the last sign-in was too long ago.' : null) });
    between('login.skerry.example', { asked: (url) => url.replace(/&max_age=\d+/, '') }); },
  async (page) => { await visit(TICKETS)(page); await page.waitForTimeout(4500); await open(page, `${TICKETS}login`); });
scenario('more-second-factor', 'The application asks for two factors (acr_values); the provider does not know them, and the application refuses.', [broken('ticket-desk', 'assurance-too-low')],
  async (kit) => { await kit.op(); startRp({ ...implicit, params: { acr_values: 'urn:northmere:two-factors' }, accept: (claims) => (claims.acr === 'urn:northmere:two-factors' ? null : 'A second factor is required for this application.') }); }, visit(TICKETS));
scenario('more-unverified', 'The address is not verified, and the application refuses such people.', [broken('ticket-desk', ['http-error', 'claim-value-not-allowed', 'account-not-found'])],
  async (kit) => { await kit.op({ claims: { email_verified: false } }); startRp({ ...implicit, accept: (claims) => (claims.email_verified === false ? 'Your email address is not verified.' : null) }); }, visit(TICKETS));
scenario('more-disabled', 'The account is switched off; the application says so.', [broken('ticket-desk', 'account-disabled')],
  async (kit) => { await kit.op(); startRp({ ...implicit, accept: () => 'Your account has been deactivated.' }); }, visit(TICKETS),
  { record: [['accounts/ticket-desk.csv', 'user,email\nm.tern,m.tern@northmere.example', 'user,email,active\nm.tern,m.tern@northmere.example,no']] });
scenario('more-disabled-by-page', 'The same, and the list on record says that it is active: only the page tells.', [broken('ticket-desk', ['account-disabled', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ ...implicit, accept: () => 'Your account has been deactivated.' }); }, visit(TICKETS));
scenario('more-locked-start-page', 'The application sends the user to its start page, which says that the account is locked.', [broken('ticket-desk', ['session-not-started', 'account-disabled'])],
  async (kit) => { await kit.op(); startRp({ failTo: '/start', failText: 'Your account is locked. Please contact the service desk.', accept: () => 'locked' }); }, visit(TICKETS));
scenario('more-behind-time', 'The clock of the application is nine minutes behind: the token is of the future.', [broken('fuel-ledger', ['not-yet-valid', 'clock-offset', 'issued-in-future', 'http-error'])],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY } }, { clock: '-9m' }); }, visit(FUEL));
scenario('more-ahead-of-time', 'The clock of the application is two hours ahead: the token has expired.', [broken('fuel-ledger', ['expired', 'clock-offset', 'http-error'])],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY } }, { clock: '+2h' }); }, visit(FUEL));

// OpenID Connect: people and pages.
scenario('more-two-factors', 'The provider asks for a second factor, on a page of its own.', [sound('ticket-desk')],
  async (kit) => { await kit.op({ otp: '123456' }); startRp(); }, async (page) => { await visit(TICKETS)(page); await verify(page, '123456'); });
scenario('more-two-factors-wrong', 'The code of the second factor is wrong; the person gives up.', [broken('ticket-desk', 'no-answer')],
  async (kit) => { await kit.op({ otp: '123456' }); startRp(); }, async (page) => { await visit(TICKETS)(page); await verify(page, '000000'); await verify(page, '111111'); });
scenario('more-page-left-open', 'The sign-in page of the provider was open too long; it asks to start again.', [broken('ticket-desk', ['no-answer', 'http-error'])],
  async (kit) => { await kit.op({ extra: { ttl: { Interaction: 1, Session: 86400, Grant: 86400, AccessToken: 3600, IdToken: 3600, AuthorizationCode: 60 } } }); startRp(); },
  async (page) => { await open(page, TICKETS); await page.waitForTimeout(2600); await page.reload(); await settle(page); });
scenario('more-silent', 'prompt=none without a session: login_required, and the application gives up.', [broken('ticket-desk', ['provider-refused'])],
  async (kit) => { await kit.op(); startRp({ params: { prompt: 'none' } }); }, async (page) => open(page, TICKETS));
scenario('more-chooser', 'The application asks first where the person wants to sign in.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ guest: (res) => html(res, 200, 'Ticket Desk', '<h1>Where do you work?</h1><form action="/login"><select name="at"><option>Skerry Pilots</option></select><button id="choose">Go on</button></form><p><a href="/local">Sign in with a password</a></p>') }); },
  async (page) => { await open(page, TICKETS); await page.click('#choose'); await settle(page); await signIn(page); });
scenario('more-terms', 'The first page after the sign-in asks to accept the terms of use.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ home: (res, claims, title, headers) => html(res, 200, title, `<h1>Terms of use</h1><p>${claims.email}, please read and accept them.</p><form method="post" action="/terms"><button>Accept</button></form>`, headers) }); }, visit(TICKETS));
scenario('more-banner', 'The page after the sign-in says in a banner that another service could not be reached.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ home: (res, claims, title, headers) => html(res, 200, title, `<div role="alert" class="error">Error: the weather service could not be reached.</div><h1>Departures</h1><p>${claims.email} <a href="/logout">Sign out</a></p>`, headers) }); }, visit(TICKETS));
scenario('more-maintenance', 'Signed in; the application answers its first page with 503, maintenance.', [broken('ticket-desk', 'http-error')],
  async (kit) => { await kit.op(); startRp({ home: (res, claims, title, headers) => html(res, 503, title, '<h1>Maintenance</h1><p>Back at 18:00.</p>', headers) }); }, visit(TICKETS));
scenario('more-slow', 'The provider is slow, and the person takes their time.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); between('login.skerry.example', { wait: 700 }); },
  async (page) => { await open(page, TICKETS); await page.waitForTimeout(4000); await signIn(page); await page.waitForTimeout(1500); });
scenario('more-call-fails', 'Signed in; a script of the page asks an interface for something that is not there (404).', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ home: (res, claims, title, headers) => html(res, 200, title, `<h1>Departures</h1><p>${claims.email} <a href="/logout">Sign out</a></p><script>fetch("https://portal.northmere.example/news")</script>`, headers) });
    serve('portal.northmere.example', (req, res) => html(res, 404, 'Portal', '<h1>Not Found</h1>', { 'access-control-allow-origin': '*' })); }, visit(TICKETS));
scenario('more-other-app-refused', 'Signed in at one application; the next one says that the user is not assigned.', [sound('ticket-desk'), broken('fuel-ledger', ['not-assigned'])],
  async (kit) => { await kit.op(); startRp(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY } });
    const rest = handlerOf('login.skerry.example');
    serve('login.skerry.example', (req, res) => (req.url.startsWith('/auth?') && req.url.includes('client_id=fuel-ledger') ? html(res, 403, 'Skerry ID', '<h1>No access</h1><p>m.tern is not assigned to the application fuel-ledger.</p>') : rest(req, res))); },
  async (page) => { await visit(TICKETS)(page); await open(page, FUEL); });

// SAML.
scenario('more-unsigned', 'Something behind the provider takes the signatures out.', [broken('crew-roster', 'not-signed')],
  async (kit) => { kit.samlify({ alter: (xml) => xml.replace(/<ds:Signature[\s\S]*?<\/ds:Signature>/g, '') }); kit.roster(); }, visit(ROSTER));
scenario('more-wrong-part', 'The response is signed, the application wants the assertion signed.', [broken('crew-roster', 'signed-part-wrong')],
  async (kit) => { kit.samlify({ sign: 'response' }); kit.roster(); }, visit(ROSTER));
scenario('more-altered', 'Something behind the provider alters the role after signing.', [broken('crew-roster', 'digest-mismatch')],
  async (kit) => { kit.samlify({ alter: (xml) => xml.replace('>mate<', '>master<') }); kit.roster(); }, visit(ROSTER));
scenario('more-laid-out', 'Something behind the provider lays the message out in lines after signing.', [broken('crew-roster', ['digest-mismatch', 'capture-altered'])],
  async (kit) => { kit.samlify({ alter: (xml) => xml.replaceAll('><saml:', '>\n  <saml:') }); kit.roster(); }, visit(ROSTER));
scenario('more-sha1', 'Signed with SHA-1; the application takes it.', [sound('crew-roster', { has: ['weak-signature'] })],
  async (kit) => { kit.samlify({ sign256: false }); kit.roster(); }, visit(ROSTER));
scenario('more-both-signed', 'Response and assertion are signed.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ sign: 'both' }); kit.roster(); }, visit(ROSTER));
scenario('more-format', 'The application wants addresses as names; the provider sends a persistent one, and the application does not know it.', [broken('crew-roster', ['name-id-format-mismatch', 'account-not-found'])],
  async (kit) => { kit.samlify({ format: 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', nameOf: () => 'u-7781' }); kit.roster({ accept: (profile) => (profile.nameID.includes('@') ? null : `The user ${profile.nameID} is unknown here.`) }); }, visit(ROSTER),
  { record: [['apps/crew-roster.toml', 'accepts_unsolicited  = true', 'accepts_unsolicited  = true\nname_id_format = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"']] });
scenario('more-claim-name', 'The role comes under a name with a namespace; the application says that it is missing.', [broken('crew-roster', 'claim-name-near-match')],
  async (kit) => { kit.samlify({ attribute: 'https://schemas.northmere.example/claims/role' }); kit.roster({ accept: (profile) => (profile.role ? null : 'The attribute role is missing.') }); }, visit(ROSTER));
scenario('more-claim-empty', 'The role has no value; the application says so.', [broken('crew-roster', ['claim-empty', 'claim-missing'])],
  async (kit) => { kit.samlify({ roleOf: () => '' }); kit.roster({ accept: (profile) => (profile.role ? null : 'The attribute role is missing.') }); }, visit(ROSTER));
scenario('more-context-ignored', 'The application asks for a hardware token; the provider signs in by password, and the application refuses.', [broken('crew-roster', 'assurance-too-low')],
  async (kit) => { kit.samlify(); kit.roster({ saml: { disableRequestedAuthnContext: false, authnContext: ['urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken'] }, accept: () => 'A stronger sign-in is required here.' }); }, visit(ROSTER));
const py = async (kit, idp = {}, sp = {}) => {
  const meta = idpMetadata('https://idp.harbourkey.example/saml', 'https://idp.harbourkey.example/sso', kit.pairs('harbourkey').cert, { slo: 'https://idp.harbourkey.example/slo' });
  const own = spMetadata('https://galley.northmere.example/metadata', 'https://galley.northmere.example/acs', { slo: 'https://galley.northmere.example/slo', cert: kit.pairs('galley').cert });
  await kit.py({ 'idp.harbourkey.example': { metadata: [own], ...idp } });
  await kit.py({ 'galley.northmere.example': { metadata: [meta], provider: 'https://idp.harbourkey.example/saml', ...sp } });
};
scenario('more-no-context', 'The provider answers that it cannot authenticate as was asked (NoAuthnContext).', [broken('galley-orders', ['provider-refused', 'assurance-too-low'])],
  async (kit) => py(kit, { refuse: 'NoAuthnContext', refuse_words: 'No method of that class.' }), async (page) => open(page, GALLEY));
scenario('more-name-policy', 'The provider answers InvalidNameIDPolicy.', [broken('galley-orders', ['provider-refused', 'name-id-format-mismatch'])],
  async (kit) => py(kit, { refuse: 'InvalidNameIDPolicy', refuse_words: 'The name format is not supported.' }), async (page) => open(page, GALLEY));
scenario('more-galley-unsigned', 'Another library: nothing is signed, and the application fails.', [broken('galley-orders', 'not-signed')],
  async (kit) => py(kit, { sign_assertion: false }), visit(GALLEY));
scenario('more-slow-post', 'The page of the provider posts after four seconds; the assertion lives for one, and the application allows no skew.', [broken('crew-roster', 'expired')],
  async (kit) => { kit.samlify({ minutes: 0.02, pause: 4000 }); kit.roster({ saml: { acceptedClockSkewMs: 0 } }); }, async (page) => { await visit(ROSTER)(page); await page.waitForTimeout(5000); },
  { record: [['apps/crew-roster.toml', 'accepts_unsolicited  = true', 'accepts_unsolicited  = true\nclock_skew = "0s"']] });
scenario('more-no-window', 'The assertion ends at the moment at which it begins, and the application allows no skew.', [broken('crew-roster', ['window-empty', 'expired'])],
  async (kit) => { kit.samlify({ minutes: 0 }); kit.roster({ saml: { acceptedClockSkewMs: 0 } }); }, visit(ROSTER),
  { record: [['apps/crew-roster.toml', 'accepts_unsolicited  = true', 'accepts_unsolicited  = true\nclock_skew = "0s"']] });
scenario('more-issuer', 'The issuer is that of the test system; the application says which one it expected.', [broken('crew-roster', ['issuer-mismatch', 'issuer-unknown'])],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { issuer: 'https://sso.skerry.example/saml/test' } } }); kit.roster({ accept: (profile) => (profile.issuer === 'https://sso.skerry.example/saml' ? null : `The issuer ${profile.issuer} is not trusted here.`) }); }, visit(ROSTER));
scenario('more-issuer-unheeded', 'The same, and the application does not look at the issuer.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { issuer: 'https://sso.skerry.example/saml/test' } } }); kit.roster(); }, visit(ROSTER));
scenario('more-http-acs', 'Behind its front the application names its ACS URL with http; the provider refuses it.', [broken('crew-roster', 'acs-not-registered')],
  async (kit) => { kit.samlify(); kit.roster({ saml: { callbackUrl: 'http://roster.northmere.example/saml/acs' } }); }, async (page) => open(page, ROSTER));
scenario('more-no-key', 'The assertion is encrypted, and the application has no key to open it.', [broken('crew-roster', ['encrypted-to-other-key', 'decryption-failed', 'http-error'])],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { encryptTo: kit.pairs('roster').cert } } }); kit.roster(); }, visit(ROSTER));
scenario('more-saml-two-factors', 'The provider asks for a second factor.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ otp: '123456' }); kit.roster(); }, async (page) => { await visit(ROSTER)(page); await verify(page, '123456'); });
scenario('more-saml-two-factors-wrong', 'The code of the second factor is wrong; the person gives up.', [broken('crew-roster', 'no-answer')],
  async (kit) => { kit.samlify({ otp: '123456' }); kit.roster(); }, async (page) => { await visit(ROSTER)(page); await verify(page, '000000'); });
scenario('more-saml-locked', 'The application sends the user to its start page, which says that the account waits for approval.', [broken('crew-roster', ['session-not-started', 'account-disabled', 'account-not-found'])],
  async (kit) => { kit.samlify(); kit.roster({ accept: () => 'waits', failTo: '/start', failText: 'Your account is waiting for approval.' }); }, visit(ROSTER));
scenario('more-saml-slow', 'The page of the provider posts after three seconds; all is well.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ pause: 3000 }); kit.roster(); }, async (page) => { await visit(ROSTER)(page); await page.waitForTimeout(4500); });
scenario('more-deep-portal', 'From the portal to a page deep inside, by the relay state.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { relay: 'https://roster.northmere.example/watches?week=47' } } }); kit.roster(); }, visit(`https://sso.skerry.example/portal?to=${encodeURIComponent(ROSTER_ID)}`));
scenario('more-posted-twice', 'The person goes back and the form is posted again; the application takes it twice.', [broken('crew-roster', 'replayed-message', { has: ['application-too-lenient'] })],
  async (kit) => { kit.samlify(); kit.roster({ landing: 'page' }); }, async (page) => { await visit(ROSTER)(page); await page.reload(); await settle(page); });
scenario('more-berths-loop', 'The session cookie is SameSite=None without Secure: browsers refuse it, and the way goes round.', [broken('berth-planner', ['session-not-started', 'redirect-loop'])],
  async (kit) => { kit.samlify(); kit.berths({ session: 'HttpOnly; SameSite=None; Path=/' }); },
  async (page) => { await open(page, BERTHS); await page.fill('input[name=username]', 'm.tern'); await page.fill('input[name=password]', 'correct-horse'); await page.click('#go'); await page.waitForTimeout(1500); await page.goto('about:blank'); });
scenario('more-berths-second-key', 'The metadata on record has another certificate beside the one that signs; the application trusts the one that signs.', [sound('berth-planner')],
  async (kit) => { kit.samlify(); kit.berths(); }, visit(BERTHS), { record: [['apps/berth-planner.toml', '["certs/skerry-saml.pem"]', '["certs/skerry-saml.pem", "certs/skerry-old.pem"]']] });
scenario('more-sign-out-and-in', 'Signed out at the application alone, then in again without a prompt.', [sound('crew-roster'), sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ logoutUrl: 'https://sso.skerry.example/portal-out' }); },
  async (page, context) => { await visit(ROSTER)(page); await context.clearCookies({ domain: 'roster.northmere.example' }); await open(page, `${ROSTER}again`); });

// Messages of other forms.
const GALLEY_ID = 'https://galley.northmere.example/metadata';
const skerryGalley = async (kit, set = {}, sp = {}) => {
  kit.samlify({ change: { [GALLEY_ID]: { acs: 'https://galley.northmere.example/acs', ...set } }, ...sp.idp });
  const meta = idpMetadata('https://sso.skerry.example/saml', 'https://sso.skerry.example/saml/sso', kit.pairs('skerry-saml').cert);
  await kit.py({ 'galley.northmere.example': { metadata: [meta], provider: 'https://sso.skerry.example/saml', ...sp.app } });
};
const AT_SKERRY = [['apps/galley-orders.toml', 'provider = "harbourkey"', 'provider = "skerry"'], ['apps/galley-orders.toml', 'certs/harbourkey.pem', 'certs/skerry-saml.pem']];
scenario('more-skerry-galley', 'One library signs people in at another.', [sound('galley-orders')],
  async (kit) => skerryGalley(kit), visit(GALLEY), { record: AT_SKERRY });
scenario('more-recipient', 'Recipient is another address than the ACS URL; this application does not look at it either.', [sound('galley-orders')],
  async (kit) => skerryGalley(kit, { recipient: 'https://galley.northmere.example/saml/acs' }), visit(GALLEY), { record: AT_SKERRY });
scenario('more-destination', 'Destination is another address than the one it is posted to; the application says so.', [broken('galley-orders', 'destination-mismatch')],
  async (kit) => skerryGalley(kit, { destination: 'https://galley.northmere.example/saml/acs' }), visit(GALLEY), { record: AT_SKERRY });
scenario('more-recipient-unheeded', 'Recipient is another address; the application does not look at it.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { recipient: 'https://roster.northmere.example/saml/acs2' } } }); kit.roster(); }, visit(ROSTER));
scenario('more-in-response', 'The answer names another request; the application checks that.', [broken('crew-roster', 'response-to-unknown-request')],
  async (kit) => { kit.samlify({ inResponse: '_0000000000000000000000000000000000000000' }); kit.roster({ validate: 'always' }); }, visit(ROSTER));
scenario('more-wrapped', 'A forged assertion stands before the signed one.', [broken('crew-roster', ['signature-wrapping'])],
  async (kit) => { kit.samlify({ alter: (xml) => { const own = /<saml:Assertion[\s\S]*<\/saml:Assertion>/.exec(xml)[0];
    const forged = own.replace(/<ds:Signature[\s\S]*?<\/ds:Signature>/, '').replace(/ID="_[^"]+"/, 'ID="_forged"').replace('m.tern@', 'a.fulmar@'); return xml.replace(own, forged + own); } }); kit.roster(); }, visit(ROSTER));
scenario('more-duplicate', 'The signed assertion stands twice, with the same ID.', [broken('crew-roster', ['duplicate-id', 'signature-wrapping'])],
  async (kit) => { kit.samlify({ alter: (xml) => { const own = /<saml:Assertion[\s\S]*<\/saml:Assertion>/.exec(xml)[0]; return xml.replace(own, own + own); } }); kit.roster(); }, visit(ROSTER));
scenario('more-comment', 'A comment stands in the name; the application lets the user in under the whole name.', [sound('crew-roster', { has: ['comment-in-identity'] })],
  async (kit) => { kit.samlify({ alter: (xml) => xml.replace('m.tern@northmere.example<', 'm.tern@<!-- -->northmere.example<') }); kit.roster(); }, visit(ROSTER));
scenario('more-http-app', 'The application runs on http: the page of the provider posts to an address without TLS; the browser asks first, and the export has nothing of that.', [broken('crew-roster', ['blocked-by-browser', 'no-answer'])],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { acs: 'http://roster.northmere.example/saml/acs' } } }); kit.roster({ session: 'HttpOnly; SameSite=Lax; Path=/', saml: { callbackUrl: 'http://roster.northmere.example/saml/acs' } }); }, visit('http://roster.northmere.example/'),
  { record: [['apps/crew-roster.toml', 'acs_urls             = ["https', 'acs_urls             = ["http'], ['apps/crew-roster.toml', 'acs_url  = "https', 'acs_url  = "http'], ['apps/crew-roster.toml', 'sign_in_url          = "https', 'sign_in_url          = "http']] });
scenario('more-jarm', 'The answer comes as a signed token (JARM).', [sound('ticket-desk')],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { authorization_signed_response_alg: 'RS256' } } }); startRp({ jarm: true, useState: true, keepIn: 'cookie' }); }, visit(TICKETS));
scenario('more-encrypted-token', 'The ID token is encrypted to the application.', [sound('ticket-desk')],
  async (kit) => { const own = kit.pairs('galley'); const key = await jose.importPKCS8(own.key, 'RSA-OAEP', { extractable: true }); const { kty, n, e } = await jose.exportJWK(key);
    await kit.op({ change: { 'ticket-desk': { id_token_encrypted_response_alg: 'RSA-OAEP', id_token_encrypted_response_enc: 'A128CBC-HS256', jwks: { keys: [{ kty, n, e, use: 'enc', alg: 'RSA-OAEP', kid: 'desk-enc' }] } } } });
    startRp({ ...implicit, decrypt: { key, alg: 'RSA-OAEP', kid: 'desk-enc' } }); }, visit(TICKETS), { record: [['apps/ticket-desk.toml', 'sign_in_url   =', 'decryption_key = "keys/galley.key"\nsign_in_url   =']] });
scenario('more-encrypted-elsewhere', 'The ID token is encrypted to a key that the application no longer has.', [broken('ticket-desk', 'encrypted-to-other-key')],
  async (kit) => { const own = await jose.importPKCS8(kit.pairs('galley').key, 'RSA-OAEP', { extractable: true }); const { kty, n, e } = await jose.exportJWK(await jose.importPKCS8(kit.pairs('berths').key, 'RSA-OAEP', { extractable: true }));
    await kit.op({ change: { 'ticket-desk': { id_token_encrypted_response_alg: 'RSA-OAEP', id_token_encrypted_response_enc: 'A128CBC-HS256', jwks: { keys: [{ kty, n, e, use: 'enc', alg: 'RSA-OAEP', kid: 'desk-old' }] } } } });
    startRp({ ...implicit, decrypt: { key: own, alg: 'RSA-OAEP' } }); }, visit(TICKETS), { record: [['apps/ticket-desk.toml', 'sign_in_url   =', 'decryption_key = "keys/galley.key"\nsign_in_url   =']] });
scenario('more-request-object', 'The request comes as a signed token.', [sound('ticket-desk')],
  async (kit) => { const key = await jose.importPKCS8(kit.pairs('galley').key, 'RS256', { extractable: true }); const { kty, n, e } = await jose.exportJWK(key);
    await kit.op({ change: { 'ticket-desk': { request_object_signing_alg: 'RS256', jwks: { keys: [{ kty, n, e, use: 'sig', alg: 'RS256', kid: 'desk' }] } } } }); startRp({ signed: { key, kid: 'desk' } }); }, visit(TICKETS));
scenario('more-request-object-refused', 'The request is signed by a key that the provider does not have.', [broken('ticket-desk', ['request-rejected', 'provider-refused'])],
  async (kit) => { const key = await jose.importPKCS8(kit.pairs('berths').key, 'RS256', { extractable: true }); const { kty, n, e } = await jose.exportJWK(await jose.importPKCS8(kit.pairs('galley').key, 'RS256', { extractable: true }));
    await kit.op({ change: { 'ticket-desk': { request_object_signing_alg: 'RS256', jwks: { keys: [{ kty, n, e, use: 'sig', alg: 'RS256', kid: 'desk' }] } } } }); startRp({ signed: { key, kid: 'desk' } }); }, async (page) => open(page, TICKETS));
scenario('more-api-not-allowed', 'Signed in; the interface does not allow calls from the page (no cross-origin header fields).', [broken('chart-room', ['blocked-by-browser', 'api-refused'])],
  async (kit) => { await kit.op(); await startSpa({ resource: 'https://api.northmere.example', api: 'https://api.northmere.example/charts', scope: 'openid profile email charts.read', apiAllows: false }); }, visit(CHARTS));
scenario('more-api-after-renewal', 'The access token has ended; the page renews it after a 401, and the interface takes the new one.', [sound('chart-room')],
  async (kit) => { await kit.op({ tokenSeconds: 1 }); await startSpa({ resource: 'https://api.northmere.example', api: 'https://api.northmere.example/charts', scope: 'openid profile email offline_access charts.read', fault: 'stale' }); },
  async (page) => { await visit(CHARTS)(page); await page.waitForTimeout(3500); });
scenario('more-in-portal', 'The application is shown in a frame of a portal of the same site; it works.', [sound('ticket-desk')],
  async (kit) => { await kit.op({ host: 'id.northmere.example' }); startRp({ issuer: 'https://id.northmere.example', transaction: 'HttpOnly; Secure; SameSite=None; Path=/', session: 'HttpOnly; Secure; SameSite=None; Path=/' });
    serve('portal.northmere.example', (req, res) => html(res, 200, 'Portal', '<h1>Portal</h1><iframe name="desk" src="https://tickets.northmere.example/" width="600" height="400"></iframe>')); },
  async (page) => { await open(page, 'https://portal.northmere.example/'); const frame = page.frame('desk'); await frame.waitForSelector('input[name=password]'); await frame.fill('input[name=username]', 'm.tern'); await frame.fill('input[name=password]', 'correct-horse'); await frame.click('#go'); await settle(page, 1200); },
  { record: [['apps/ticket-desk.toml', 'provider = "skerry"', 'provider = "northmere"']] });
scenario('more-broker', 'The provider sends the user on to another provider (SAML) and takes its word: a sign-in of the provider itself, at another one, and the application\'s own.', [{ outcome: 'inconclusive', app: null }, sound('ticket-desk')],
  async (kit) => {
    const acs = 'https://login.skerry.example/broker/acs', own = 'https://login.skerry.example/broker';
    kit.samlify({ change: { [own]: { acs } } });
    const { SAML } = await import('@node-saml/node-saml');
    const sp = new SAML({ entryPoint: 'https://sso.skerry.example/saml/sso', issuer: own, callbackUrl: acs, idpCert: kit.pairs('skerry-saml').cert, audience: own, wantAuthnResponseSigned: false, wantAssertionsSigned: true, disableRequestedAuthnContext: true });
    const broker = async (res, uid) => { res.writeHead(302, { location: await sp.getAuthorizeUrlAsync(uid, 'login.skerry.example', {}) }); res.end(); };
    broker.who = (given) => given.get('who').split('@')[0];
    await kit.op({ broker });
    const rest = handlerOf('login.skerry.example');
    serve('login.skerry.example', async (req, res) => {
      if (!req.url.startsWith('/broker/acs')) return rest(req, res);
      const given = new URLSearchParams(await bodyOf(req));
      const { profile } = await sp.validatePostResponseAsync({ SAMLResponse: given.get('SAMLResponse') });
      return html(res, 200, 'Skerry ID', `<form method="post" action="/interaction/${given.get('RelayState')}/broker"><input type="hidden" name="who" value="${profile.nameID}"></form><script>document.forms[0].submit()</script>`);
    });
    startRp();
  }, visit(TICKETS));

// What stands between both sides, and what the provider wants first.
const redirected = (status) => async (kit) => {
  kit.samlify(); kit.roster({ acsPath: '/saml/acs/', saml: { callbackUrl: 'https://roster.northmere.example/saml/acs' } });
  const rest = handlerOf('roster.northmere.example');
  serve('roster.northmere.example', (req, res) => {
    if (req.url === '/saml/acs') { res.writeHead(status, { location: '/saml/acs/' }); return res.end(); }
    if (req.url === '/saml/acs/' && req.method === 'GET') return html(res, 400, 'Crew Roster', '<h1>Bad request</h1><p>The parameter SAMLResponse is missing.</p>');
    return rest(req, res);
  });
};
scenario('more-post-redirected', 'The front of the application sends the post on to the address with a slash by 301; the browser goes there by GET, without the answer.', [broken('crew-roster', ['wrong-binding', 'http-error', 'session-not-started', 'destination-mismatch'])],
  redirected(301), visit(ROSTER));
scenario('more-post-kept', 'The same by 307, and the browser posts again: it works.', [sound('crew-roster')],
  redirected(307), visit(ROSTER));
scenario('more-no-script', 'The page of the provider that should post forbids its own script (script-src): the form is never sent.', [broken('crew-roster', ['blocked-by-browser', 'no-answer'])],
  async (kit) => { kit.samlify({ formPage: { 'content-security-policy': "script-src 'none'" } }); kit.roster(); }, visit(ROSTER));
scenario('more-password-ended', 'The provider wants a new password first; the person leaves.', [broken('ticket-desk', 'no-answer')],
  async (kit) => { await kit.op(); startRp(); const rest = handlerOf('login.skerry.example');
    serve('login.skerry.example', (req, res) => (req.method === 'POST' && req.url.includes('/login') ? html(res, 200, 'Skerry ID', '<h1>Your password has expired</h1><form method="post" action="/new"><input type="password" name="old"><input type="password" name="new"><button>Change</button></form>') : rest(req, res))); }, visit(TICKETS));
scenario('more-device-policy', 'The provider refuses by a rule on devices, on a page of its own.', [broken('ticket-desk', ['no-answer', 'provider-refused', 'http-error'])],
  async (kit) => { await kit.op(); startRp(); const rest = handlerOf('login.skerry.example');
    serve('login.skerry.example', (req, res) => (req.method === 'POST' && req.url.includes('/login') ? html(res, 403, 'Skerry ID', '<h1>You cannot get there from here</h1><p>This application needs a device that the organisation manages.</p>') : rest(req, res))); }, visit(TICKETS));
const once = (host, when, answer) => { const rest = handlerOf(host); let done = false;
  serve(host, (req, res) => { if (!done && when(req)) { done = true; return answer(res); } return rest(req, res); }); };
const gateway = (res) => html(res, 502, '502 Bad Gateway', '<h1>502 Bad Gateway</h1>');
scenario('more-callback-gateway', 'The front answers the callback with 502; the person loads it again, and it goes through.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); once('tickets.northmere.example', (req) => req.url.startsWith('/callback'), gateway); },
  async (page) => { await visit(TICKETS)(page); await page.reload(); await settle(page); });
scenario('more-acs-gateway', 'The front answers the posted response with 502; the person loads it again, and it goes through.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); once('roster.northmere.example', (req) => req.method === 'POST', gateway); },
  async (page) => { await visit(ROSTER)(page); await page.reload(); await settle(page); });
scenario('more-own-script', 'The page of the provider posts by a script in a file of its own, as its policy demands.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ formPage: { 'content-security-policy': "script-src 'self'" } }); kit.roster(); const rest = handlerOf('sso.skerry.example');
    serve('sso.skerry.example', async (req, res) => { if (req.url === '/post.js') { res.writeHead(200, { 'content-type': 'text/javascript' }); return res.end('document.forms[0].submit()'); }
      const end = res.end.bind(res); res.end = (body, ...more) => end(String(body ?? '').replace(/<script>.*<\/script>/, '<script src="/post.js"></script>'), ...more); return rest(req, res); }); }, visit(ROSTER));
scenario('more-callback-slash', 'The front sends the callback on to the address with a slash, with its parameters; it works.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); const rest = handlerOf('tickets.northmere.example');
    serve('tickets.northmere.example', (req, res) => { if (req.url.startsWith('/callback?')) { res.writeHead(301, { location: req.url.replace('/callback?', '/callback/?') }); return res.end(); }
      req.url = req.url.replace('/callback/?', '/callback?'); return rest(req, res); }); }, visit(TICKETS));
scenario('more-reloaded-sign-in', 'The person loads the sign-in page of the provider twice before signing in.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); }, async (page) => { await open(page, TICKETS); await page.reload(); await settle(page); await page.reload(); await settle(page); await signIn(page); });
scenario('more-sign-out-fails', 'A sign-in that works; then the sign-out ends in an error of the provider.', [sound('galley-orders')],
  async (kit) => { await py(kit); const rest = handlerOf('idp.harbourkey.example'); serve('idp.harbourkey.example', (req, res) => (req.url.startsWith('/slo') ? html(res, 500, 'Harbour Key', '<h1>Internal error</h1>') : rest(req, res))); },
  async (page) => { await visit(GALLEY)(page); await page.click('#out'); await settle(page); });
