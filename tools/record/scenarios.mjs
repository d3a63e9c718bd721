// The scenarios: what is set, what the person does, and what a fair expert says of the export. The expectations were
// written before any of the exports was diagnosed. `expect` has one entry an attempt, in the order of the export:
// `outcome`, the acceptable first breaks (`first`), what must be among the findings (`has`) and what must not (`not`).
import { dashboard, startRp, withModal } from './systems/rp.mjs';
import { startSpa } from './systems/spa.mjs';
import { idpMetadata, open, settle, signIn, spMetadata } from './kit.mjs';
import { page as html } from './world.mjs';

const TICKETS = 'https://tickets.northmere.example/';
const FUEL = 'https://fuel.northmere.example/';
const CHARTS = 'https://charts.northmere.example/';
const ROSTER = 'https://roster.northmere.example/';
const BERTHS = 'https://berths.northmere.example/';
const GALLEY = 'https://galley.northmere.example/';
const SKERRY = 'https://login.skerry.example';
const API = 'https://api.northmere.example/charts';
const ROSTER_ID = 'https://roster.northmere.example/saml';
const BERTHS_ID = 'https://berths.northmere.example/saml/';
const sound = (app, more = {}) => ({ outcome: 'sound', app, ...more });
const broken = (app, first, more = {}) => ({ outcome: 'broken', app, first: [first].flat(), ...more });
const unsure = (app, more = {}) => ({ outcome: 'inconclusive', app, ...more });

export const SCENARIOS = [];
const scenario = (name, what, expect, set, drive, more = {}) => SCENARIOS.push({
  name, what, expect, works: expect.every((one) => one.outcome === 'sound'), set, drive, ...more });
const visit = (url, name = 'm.tern') => async (page) => { await open(page, url); await signIn(page, name); };

// OpenID Connect, sign-ins that work.
scenario('oidc-code', 'Code flow with PKCE; the application sets its session at the callback.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); }, visit(TICKETS));
scenario('oidc-form-post', 'Code by form_post; the cookie for it is SameSite=None.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ responseMode: 'form_post', transaction: 'HttpOnly; Secure; SameSite=None; Path=/' }); }, visit(TICKETS));
scenario('oidc-implicit', 'An ID token by form_post.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ responseType: 'id_token', responseMode: 'form_post', transaction: 'HttpOnly; Secure; SameSite=None; Path=/' }); }, visit(TICKETS));
scenario('oidc-hybrid', 'Code and ID token by form_post.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ responseType: 'code id_token', responseMode: 'form_post', transaction: 'HttpOnly; Secure; SameSite=None; Path=/' }); }, visit(TICKETS));
scenario('oidc-lax-unneeded', 'By form_post the Lax cookie does not come back; the application keeps its state on the server and lets the user in.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ responseMode: 'form_post', keepIn: 'memory', transaction: 'HttpOnly; Secure; SameSite=Lax; Path=/' }); },
  visit(TICKETS));
scenario('oidc-flask', 'Another library: code flow, callback /signin-oidc, the session in a signed cookie that was there before.', [sound('fuel-ledger')],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { kind: 'rp', issuer: SKERRY } }); }, visit(FUEL));
scenario('oidc-title', 'The page after the sign-in is called "Failed and expired deliveries".', [sound('fuel-ledger')],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, title: 'Failed and expired deliveries' } }); }, visit(FUEL));
scenario('oidc-page-at-callback', 'The application answers the callback with its page; no redirect.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ landing: 'page' }); }, visit(TICKETS));
scenario('oidc-script-on', 'The callback page goes on by a script.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ landing: 'script' }); }, visit(TICKETS));
scenario('oidc-bare-page', 'A session cookie, then a page that names nobody and has no way to sign out.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ lang: 'bare' }); }, visit(TICKETS));
scenario('oidc-german', 'Pages in another language.', [sound('ticket-desk')],
  async (kit) => { await kit.op({ languages: 'de' }); startRp({ lang: 'de' }); }, visit(TICKETS));
scenario('oidc-no-pkce-no-nonce', 'A plain code flow: no PKCE, no nonce.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ pkce: false, useNonce: false }); }, visit(TICKETS));
scenario('oidc-par', 'A pushed authorization request.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ par: true }); }, visit(TICKETS));
scenario('oidc-silent-first', 'prompt=none first, refused, then asked.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ passiveFirst: true }); }, visit(TICKETS));
scenario('oidc-consent', 'The provider asks for consent, and gets it.', [sound('ticket-desk')],
  async (kit) => { await kit.op({ consent: true }); startRp(); },
  async (page) => { await visit(TICKETS)(page); await page.click('#allow'); await settle(page); });
scenario('oidc-second-try', 'A wrong password, then the right one.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await open(page, TICKETS); await signIn(page, 'm.tern', 'wrong'); await signIn(page); });
scenario('oidc-two-apps', 'Two applications in a row; the second without a prompt.', [sound('ticket-desk'), sound('fuel-ledger')],
  async (kit) => { await kit.op(); startRp(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY } }); },
  async (page) => { await visit(TICKETS)(page); await open(page, FUEL); });
scenario('oidc-two-tabs', 'Two tabs, each with its own sign-in, both finish.', [sound('ticket-desk'), sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ keepIn: 'memory' }); },
  async (page, context) => { const second = await context.newPage(); await open(page, TICKETS); await open(second, TICKETS); await signIn(page); await open(second, `${TICKETS}again`); await signIn(second); },
  { note: 'the second tab starts anew' });
scenario('oidc-abandoned', 'A first try is given up; the second goes through.', [sound('ticket-desk', { has: ['earlier-try-abandoned'] })],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await open(page, TICKETS); await open(page, 'about:blank'); await visit(TICKETS)(page); });
scenario('oidc-back-button', 'Back to the sign-in page after it was through, then forward.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await visit(TICKETS)(page); await page.reload(); await settle(page); await page.goBack().catch(() => {}); await settle(page); await open(page, TICKETS); });
scenario('oidc-reload', 'The page is loaded again twice after the sign-in.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); }, async (page) => { await visit(TICKETS)(page); await page.reload(); await settle(page); await page.reload(); await settle(page); });
scenario('oidc-sign-out', 'A sign-in, then a sign-out.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await visit(TICKETS)(page); await page.click('#out'); await settle(page); await page.click('#yes'); await settle(page); });
scenario('oidc-force', 'A second sign-in with prompt=login while signed in.', [sound('ticket-desk'), sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await visit(TICKETS)(page); await open(page, `${TICKETS}again`); await signIn(page); });
scenario('oidc-port', 'The redirect URI is registered with its default port; the library redeems the code without it, and its page says invalid_grant.', [broken('ticket-desk', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { redirect_uris: ['https://tickets.northmere.example:443/callback'] } } }); startRp({ redirectUri: 'https://tickets.northmere.example:443/callback' }); },
  visit(TICKETS), { record: [['apps/ticket-desk.toml', 'https://tickets.northmere.example/callback', 'https://tickets.northmere.example:443/callback']] });
scenario('oidc-uri-query', 'The redirect URI has a query of its own; the library drops it when it redeems the code, and its page says invalid_grant.', [broken('ticket-desk', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { redirect_uris: ['https://tickets.northmere.example/callback?tenant=7'] } } }); startRp({ redirectUri: 'https://tickets.northmere.example/callback?tenant=7' }); },
  visit(TICKETS), { record: [['apps/ticket-desk.toml', 'https://tickets.northmere.example/callback', 'https://tickets.northmere.example/callback?tenant=7']] });
scenario('oidc-flask-port', 'The redirect URI is registered and sent with its default port; it works.', [sound('fuel-ledger')],
  async (kit) => { await kit.op({ change: { 'fuel-ledger': { redirect_uris: ['https://fuel.northmere.example:443/signin-oidc'] } } }); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, redirect_uri: 'https://fuel.northmere.example:443/signin-oidc' } }); },
  visit(FUEL), { record: [['apps/fuel-ledger.toml', 'https://fuel.northmere.example/signin-oidc', 'https://fuel.northmere.example:443/signin-oidc']] });
scenario('oidc-flask-query', 'The redirect URI has a query of its own; it works.', [sound('fuel-ledger')],
  async (kit) => { await kit.op({ change: { 'fuel-ledger': { redirect_uris: ['https://fuel.northmere.example/signin-oidc?tenant=7'] } } }); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, redirect_uri: 'https://fuel.northmere.example/signin-oidc?tenant=7' } }); },
  visit(FUEL), { record: [['apps/fuel-ledger.toml', 'https://fuel.northmere.example/signin-oidc', 'https://fuel.northmere.example/signin-oidc?tenant=7']] });
scenario('oidc-stale-record', 'It works; the record still has the client ID of last year.', [sound('ticket-desk', { has: ['record-contradicted'] })],
  async (kit) => { await kit.op(); startRp({ responseType: 'id_token', responseMode: 'form_post', keepIn: 'memory' }); }, visit(TICKETS),
  { record: [['apps/ticket-desk.toml', 'client_id     = "ticket-desk"', 'client_id     = "ticket-desk-2025"']] });
scenario('oidc-tidewater', 'A provider on another library.', [sound('fuel-ledger')],
  async (kit) => kit.py({ 'accounts.tidewater.example': { clients: { 'fuel-ledger': { secret: 'fuel-ledger-secret-of-the-recording', redirect_uris: ['https://fuel.northmere.example/signin-oidc'] } } },
    'fuel.northmere.example': { issuer: 'https://accounts.tidewater.example' } }), visit(FUEL), { record: [['apps/fuel-ledger.toml', 'skerry', 'tidewater']] });

scenario('oidc-one-cookie', 'One cookie from the first visit on; the sign-in changes nothing about it. The page names the person.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ oneCookie: true, keepIn: 'memory' }); }, visit(TICKETS));
scenario('oidc-one-cookie-bare', 'The same, and the page says nothing of the person: nothing shows how it ended.', [unsure('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ oneCookie: true, keepIn: 'memory', lang: 'bare' }); }, visit(TICKETS));
scenario('oidc-dashboard', 'The page after the sign-in has the heading "Failed sign-ins this week".', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ home: dashboard }); }, visit(TICKETS));
scenario('oidc-modal', 'The page after the sign-in holds a hidden sign-in form.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ home: withModal }); }, visit(TICKETS));
scenario('oidc-double-click', 'A second click before the first page came: the first request is aborted.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ keepIn: 'memory' }); },
  async (page) => { page.goto(TICKETS).catch(() => {}); await page.waitForTimeout(15); await open(page, TICKETS); await signIn(page); });
scenario('oidc-from-http', 'Begun over http; the application sends the browser to https first.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); const { serve } = await import('./world.mjs'); serve('desk.northmere.example', (req, res) => { res.writeHead(301, { location: TICKETS }); res.end(); }); },
  async (page) => { await open(page, 'http://desk.northmere.example/'); await signIn(page); });
scenario('saml-passive-first', 'IsPassive first, refused with NoPassive, then asked.', [sound('galley-orders')],
  async (kit) => py(kit, {}, { passive: true, passive_once: true }), async (page) => { await open(page, GALLEY); await signIn(page); });
// Single-page applications that work.
scenario('spa-code', 'A single-page application; tokens in memory, the name on the page by script.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa(); }, visit(CHARTS));
scenario('spa-nameless', 'A single-page application whose page says nothing of the person.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ show: false }); }, visit(CHARTS));
scenario('spa-fragment', 'An ID token in the fragment.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ fragment: true }); }, visit(CHARTS));
scenario('spa-backend', 'The token goes to the application\'s own backend, which answers 204 with a cookie.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ backend: true }); }, visit(CHARTS));
scenario('spa-api', 'The access token is taken by an interface.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ resource: 'https://api.northmere.example', api: API, scope: 'openid profile email charts.read' }); }, visit(CHARTS));
scenario('spa-refresh', 'The tokens are renewed once.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ scope: 'openid profile email offline_access', refresh: true }); }, visit(CHARTS));
scenario('spa-silent-first', 'prompt=none first, then asked.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ silentFirst: true }); }, visit(CHARTS));
scenario('spa-silent-renewal', 'Renewal in a frame, which works: the provider is of the same site.', [sound('chart-room'), sound('chart-room')],
  async (kit) => { await kit.op({ host: 'id.northmere.example' }); await startSpa({ issuer: 'https://id.northmere.example', silent: true, landing: 'home' }); }, visit(CHARTS),
  { record: [['apps/chart-room.toml', 'skerry', 'northmere']] });
scenario('spa-frame-third-party', 'Renewal in a frame fails: the browser sends no cookies to a third party.', [sound('chart-room'), broken('chart-room', 'provider-refused')],
  async (kit) => { await kit.op({ cookieSite: 'none' }); await startSpa({ silent: true, landing: 'home' }); }, visit(CHARTS));
scenario('spa-popup', 'The sign-in in a window of its own.', [sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa({ popup: true }); },
  async (page, context) => { await open(page, CHARTS); const opened = context.waitForEvent('page'); await page.click('#in'); const popup = await opened; await popup.waitForSelector('input[name=password]'); await popup.fill('input[name=username]', 'm.tern'); await popup.fill('input[name=password]', 'correct-horse'); await popup.click('#go'); await settle(page, 1200); });

// OpenID Connect, broken.
scenario('oidc-uri-unregistered', 'The redirect URI is not registered: the provider shows a page.', [broken('ticket-desk', 'redirect-uri-mismatch')],
  async (kit) => { await kit.op(); startRp({ redirectUri: 'https://tickets.northmere.example/callback/' }); }, async (page) => open(page, TICKETS));
scenario('oidc-uri-not-on-record', 'The same, with a record that says what the application sends: only the provider\'s page tells.', [broken('ticket-desk', ['redirect-uri-mismatch', 'request-rejected'])],
  async (kit) => { await kit.op(); startRp({ redirectUri: 'https://tickets.northmere.example/back' }); }, async (page) => open(page, TICKETS),
  { record: [['apps/ticket-desk.toml', 'https://tickets.northmere.example/callback', 'https://tickets.northmere.example/back']] });
scenario('oidc-unknown-client', 'The application uses a client ID that the provider does not know.', [broken('ticket-desk', ['identifier-in-request-unknown'])],
  async (kit) => { await kit.op(); startRp({ clientId: 'ticket-desk-test' }); }, async (page) => open(page, TICKETS));
scenario('oidc-unknown-client-on-record', 'The same, and the record has that client ID too: only the page tells.', [broken('ticket-desk', ['request-rejected'])],
  async (kit) => { await kit.op({ without: ['ticket-desk'] }); startRp(); }, async (page) => open(page, TICKETS));
scenario('oidc-wrong-secret', 'The client secret is wrong; the application\'s page says invalid_client.', [broken('ticket-desk', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ secret: 'not-the-secret' }); }, visit(TICKETS));
scenario('oidc-wrong-secret-mute', 'The same; the application says nothing of the reason.', [broken('ticket-desk', ['http-error'])],
  async (kit) => { await kit.op(); startRp({ secret: 'not-the-secret', sayWhy: false }); }, visit(TICKETS));
scenario('oidc-wrong-secret-200', 'The same; the page has status 200 and says that the sign-in failed.', [broken('ticket-desk', ['session-not-started', 'token-request-refused'])],
  async (kit) => { await kit.op(); startRp({ secret: 'not-the-secret', errorStatus: 200 }); }, visit(TICKETS));
scenario('oidc-strict-cookie', 'The cookie for the sign-in is SameSite=Strict; the application says that it is missing.', [broken('ticket-desk', 'session-cookie-lost')],
  async (kit) => { await kit.op(); startRp({ transaction: 'HttpOnly; Secure; SameSite=Strict; Path=/' }); }, visit(TICKETS));
scenario('oidc-lax-post', 'form_post, and the cookie is SameSite=Lax.', [broken('ticket-desk', 'session-cookie-lost')],
  async (kit) => { await kit.op(); startRp({ responseMode: 'form_post', transaction: 'HttpOnly; Secure; SameSite=Lax; Path=/' }); },
  async (page) => { await open(page, TICKETS); await signIn(page); });
scenario('oidc-cookie-path', 'The cookie for the sign-in has Path=/login and does not reach the callback.', [broken('ticket-desk', 'session-cookie-lost')],
  async (kit) => { await kit.op(); startRp({ transaction: 'HttpOnly; Secure; SameSite=Lax; Path=/login' }); }, async (page) => { await open(page, `${TICKETS}login`); await signIn(page); });
scenario('oidc-other-host', 'Started at desk., came back at tickets.: the cookie stayed behind.', [broken('ticket-desk', 'session-cookie-lost')],
  async (kit) => { await kit.op(); startRp({ alsoAt: ['desk.northmere.example'] }); }, visit('https://desk.northmere.example/'));
scenario('oidc-loop', 'The session cookie has Path=/callback: the browser goes round.', [broken('ticket-desk', ['session-not-started', 'redirect-loop'])],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; Secure; SameSite=Lax; Path=/callback' }); }, visit(TICKETS));
scenario('oidc-loop-none', 'The session cookie is SameSite=None without Secure; browsers refuse it.', [broken('ticket-desk', ['session-not-started', 'redirect-loop'])],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; SameSite=None; Path=/' }); }, visit(TICKETS));
scenario('oidc-loop-no-cookie', 'The application sets no session cookie and sends the browser round.', [broken('ticket-desk', ['session-not-started', 'redirect-loop'])],
  async (kit) => { await kit.op(); startRp({ session: null }); }, visit(TICKETS));
scenario('oidc-denied', 'The person says no to the consent.', [broken('ticket-desk', ['provider-refused', 'consent-missing'])],
  async (kit) => { await kit.op({ consent: true }); startRp(); }, async (page) => { await visit(TICKETS)(page); await page.click('#deny'); await settle(page); });
scenario('oidc-wrong-password', 'The password is wrong three times; the person gives up.', [broken('ticket-desk', 'no-answer')],
  async (kit) => { await kit.op(); startRp(); }, async (page) => { await open(page, TICKETS); for (let n = 0; n < 3; n += 1) await signIn(page, 'm.tern', 'wrong'); });
scenario('oidc-not-assigned', 'The provider says that the user is not assigned; the record says so too.', [broken('ticket-desk', 'not-assigned')],
  async (kit) => { await kit.op({ assigned: { 'ticket-desk': ['m.tern'] } }); startRp(); }, visit(TICKETS, 'a.fulmar'));
scenario('oidc-not-assigned-page', 'The same, without assignments on record.', [broken('ticket-desk', 'not-assigned')],
  async (kit) => { await kit.op({ assigned: { 'ticket-desk': ['m.tern'] } }); startRp(); }, visit(TICKETS, 'a.fulmar'),
  { record: [['apps/ticket-desk.toml', 'assigned      = "assignments/ticket-desk.csv"', '']] });
scenario('oidc-no-account', 'The application has no account of that name, and says so.', [broken('ticket-desk', 'account-not-found')],
  async (kit) => { await kit.op(); startRp({ responseType: 'id_token', responseMode: 'form_post', keepIn: 'memory', accept: (claims) => (claims.sub === 'm.tern' ? null : `No account for ${claims.email} in Ticket Desk.`) }); }, visit(TICKETS, 'a.fulmar'));
scenario('oidc-group-needed', 'The application wants a group; the scope for groups was not asked for.', [broken('fuel-ledger', 'scope-not-granted')],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, group: 'grp-bridge' } }); }, visit(FUEL));
scenario('oidc-verifier', 'The verifier does not fit the challenge; the application\'s page says invalid_grant.', [broken('ticket-desk', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ breakVerifier: true }); }, visit(TICKETS));
scenario('oidc-pkce-wanted', 'The provider wants PKCE; the application sends none.', [broken('ticket-desk', 'code-challenge-missing')],
  async (kit) => { await kit.op({ pkce: true }); startRp({ pkce: false }); }, async (page) => open(page, TICKETS));
scenario('oidc-response-type', 'The response type is not one of the client\'s.', [broken('ticket-desk', ['request-rejected', 'provider-refused'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { response_types: ['code'], grant_types: ['authorization_code'] } } }); startRp({ responseType: 'id_token', responseMode: 'form_post', keepIn: 'memory' }); }, async (page) => open(page, TICKETS));
scenario('oidc-bad-scope', 'A scope that the provider does not have.', [broken('ticket-desk', ['provider-refused', 'request-rejected'])],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { scope: 'openid' } } }); startRp({ scope: 'openid email' }); }, async (page) => open(page, TICKETS));
scenario('oidc-two-tabs-one-cookie', 'Two tabs share one cookie: the first fails, the second goes through.',
  [broken('ticket-desk', 'state-mismatch'), sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page, context) => { const second = await context.newPage(); await open(page, TICKETS); await open(second, TICKETS); await signIn(page); await signIn(second); });
scenario('oidc-gone', 'The redirect leads to a host name that does not exist.', [broken('ticket-desk', 'name-not-resolved')],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { redirect_uris: ['https://gone.northmere.example/callback'] } } }); startRp({ redirectUri: 'https://gone.northmere.example/callback' }); }, visit(TICKETS),
  { record: [['apps/ticket-desk.toml', 'https://tickets.northmere.example/callback', 'https://gone.northmere.example/callback']] });
scenario('oidc-closed', 'The redirect leads to a port that nobody listens on.', [broken('ticket-desk', 'port-unreachable')],
  async (kit) => { await kit.op({ change: { 'ticket-desk': { redirect_uris: ['https://closed.northmere.example/callback'] } } }); startRp({ redirectUri: 'https://closed.northmere.example/callback' }); }, visit(TICKETS),
  { record: [['apps/ticket-desk.toml', 'https://tickets.northmere.example/callback', 'https://closed.northmere.example/callback']] });
scenario('oidc-untrusted', 'The browser does not trust the application\'s certificate.', [broken('ticket-desk', ['tls-untrusted'])],
  async (kit) => { await kit.op(); startRp(); }, async (page) => open(page, TICKETS), { trust: false });
scenario('oidc-form-action', 'The provider\'s page may not post to the application: form-action \'self\'.', [broken('ticket-desk', 'blocked-by-browser')],
  async (kit) => { await kit.op({ formAction: "form-action 'self'" }); startRp({ responseMode: 'form_post', keepIn: 'memory' }); }, visit(TICKETS));
scenario('oidc-framed', 'The application is shown in a frame of the portal; the provider bars frames.', [broken('ticket-desk', 'blocked-by-browser')],
  async (kit) => { await kit.op({ formAction: "frame-ancestors 'none'" }); startRp();
    const { serve } = await import('./world.mjs'); serve('portal.northmere.example', (req, res) => html(res, 200, 'Portal', '<h1>Portal</h1><iframe src="https://tickets.northmere.example/" width="600" height="400"></iframe>')); },
  async (page) => open(page, 'https://portal.northmere.example/'));
scenario('oidc-hint-other', 'The person asked for with login_hint is not the one who signs in.', [broken('ticket-desk', ['other-user-answered'])],
  async (kit) => { await kit.op(); startRp({ responseType: 'id_token', responseMode: 'form_post', keepIn: 'memory', params: { login_hint: 'a.fulmar@northmere.example' },
    accept: (claims) => (claims.sub === 'a.fulmar' ? null : `You are signed in as ${claims.email}; a.fulmar@northmere.example was expected.`) }); }, visit(TICKETS, 'm.tern'));
scenario('oidc-tidewater-issuer', 'The ID token of the provider names another issuer; the application refuses it.', [broken('fuel-ledger', ['issuer-mismatch', 'http-error'])],
  async (kit) => kit.py({ 'accounts.tidewater.example': { issuer_in_token: 'https://accounts.tidewater.example/', clients: { 'fuel-ledger': { secret: 'fuel-ledger-secret-of-the-recording', redirect_uris: ['https://fuel.northmere.example/signin-oidc'] } } },
    'fuel.northmere.example': { issuer: 'https://accounts.tidewater.example' } }), visit(FUEL), { record: [['apps/fuel-ledger.toml', 'skerry', 'tidewater']] });
scenario('oidc-flask-cookie-path', 'The session cookie of the application covers only /app; the callback is elsewhere.', [broken('fuel-ledger', 'session-cookie-lost')],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, cookie_path: '/app' } }); }, visit(FUEL));

scenario('oidc-back-to-login', 'The application has no account and sends the user to its own start page with an alert.', [broken('ticket-desk', ['session-not-started', 'account-not-found'])],
  async (kit) => { await kit.op(); startRp({ failTo: '/start', accept: () => 'no account' }); }, visit(TICKETS));
scenario('oidc-plain-error', 'The application answers with a line of plain text and 401.', [broken('ticket-desk', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ secret: 'not-the-secret', plainError: true, errorStatus: 401 }); }, visit(TICKETS));
scenario('oidc-consent-left', 'The person leaves the consent page.', [broken('ticket-desk', 'no-answer')],
  async (kit) => { await kit.op({ consent: true }); startRp(); }, visit(TICKETS));
scenario('oidc-second-app-fails', 'The first application works, the second has a wrong secret.', [sound('ticket-desk'), broken('fuel-ledger', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op(); startRp(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, secret: 'not-the-secret' } }); },
  async (page) => { await visit(TICKETS)(page); await open(page, FUEL); });
scenario('oidc-page-gone', 'Signed in, then led to a page that does not exist.', [broken('ticket-desk', ['http-error'])],
  async (kit) => { await kit.op(); startRp({ startAt: '/nowhere', home: (res, claims, title, headers) => html(res, 404, title, '<h1>Page not found</h1>', headers) }); }, visit(TICKETS));
scenario('oidc-server-down', 'The provider answers the sign-in with 503.', [broken('ticket-desk', ['no-answer', 'http-error'])],
  async (kit) => { await kit.op(); startRp(); const { serve } = await import('./world.mjs'); const op = await kit.op();
    const rest = op.callback(); serve('login.skerry.example', (req, res) => (req.url.startsWith('/interaction') ? html(res, 503, 'Skerry ID', '<h1>Service unavailable</h1>') : rest(req, res))); },
  async (page) => open(page, TICKETS));
// Single-page applications, broken.
scenario('spa-connect-src', 'The page\'s policy forbids the call to the token endpoint.', [broken('chart-room', 'blocked-by-browser')],
  async (kit) => { await kit.op(); await startSpa({ csp: "default-src 'self'; connect-src 'self' https://login.skerry.example/.well-known/openid-configuration" }); }, visit(CHARTS));
scenario('spa-cors', 'The provider does not allow the call from this origin.', [broken('chart-room', 'blocked-by-browser')],
  async (kit) => { await kit.op({ cors: false }); await startSpa(); }, async (page) => { await open(page, CHARTS); if (await page.$('input[name=password]')) await signIn(page); });
scenario('spa-api-audience', 'The interface expects another audience and refuses with 401.', [broken('chart-room', 'api-refused')],
  async (kit) => { await kit.op(); await startSpa({ resource: 'https://api.northmere.example', api: API, apiAudience: 'https://api.northmere.example/v2', scope: 'openid profile email charts.read' }); }, visit(CHARTS));
scenario('spa-api-scope', 'The scope is not in the token; the interface refuses with 403.', [broken('chart-room', 'api-refused')],
  async (kit) => { await kit.op(); await startSpa({ resource: 'https://api.northmere.example', api: API }); }, visit(CHARTS));
scenario('spa-frame-lax', 'Renewal in a frame fails: the provider\'s cookie is Lax.', [sound('chart-room'), broken('chart-room', 'provider-refused')],
  async (kit) => { await kit.op({ cookieSite: 'lax' }); await startSpa({ silent: true, landing: 'home' }); }, visit(CHARTS));
scenario('spa-secret', 'The client is set up as confidential: the token endpoint refuses it.', [broken('chart-room', ['token-request-refused', 'blocked-by-browser'])],
  async (kit) => { await kit.op({ change: { 'chart-room': { token_endpoint_auth_method: 'client_secret_basic', client_secret: 'nobody-told-the-page-about-this' } } }); await startSpa(); }, visit(CHARTS));
scenario('spa-no-openid', 'The scope openid is missing.', [broken('chart-room', ['token-missing', 'request-rejected', 'scope-not-granted'])],
  async (kit) => { await kit.op(); await startSpa({ scope: 'profile' }); }, async (page) => { await open(page, CHARTS); if (await page.$('input[name=password]')) await signIn(page); });

// SAML, sign-ins that work.
scenario('saml-roster', 'Started at the application, signed assertion, posted back.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); }, visit(ROSTER));
scenario('saml-portal', 'Started at the provider\'s portal.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); }, visit(`https://sso.skerry.example/portal?to=${encodeURIComponent(ROSTER_ID)}`));
scenario('saml-post-request', 'The request is posted.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ method: 'post', saml: { authnRequestBinding: 'HTTP-POST', skipRequestCompression: true } }); }, visit(ROSTER));
scenario('saml-signed-response', 'The response is signed, not the assertion.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ sign: 'response' }); kit.roster({ saml: { wantAssertionsSigned: false } }); }, visit(ROSTER),
  { record: [['apps/crew-roster.toml', 'signed_part          = "assertion"', 'signed_part          = "either"']] });
scenario('saml-pre-cookie', 'A Lax cookie set before leaving does not come back with the post; nobody needs it.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ before: 'HttpOnly; Secure; SameSite=Strict; Path=/' }); }, visit(ROSTER));
scenario('saml-in-response-to', 'The application checks InResponseTo.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ validate: 'always' }); }, visit(ROSTER));
scenario('saml-berths', 'Another library as the application.', [sound('berth-planner')],
  async (kit) => { kit.samlify(); kit.berths(); }, visit(BERTHS));
scenario('saml-encrypted', 'The assertion is encrypted.', [sound('berth-planner')],
  async (kit) => { const own = kit.pairs('berths'); kit.samlify({ change: { [BERTHS_ID]: { encryptTo: own.cert } } }); kit.berths({ decrypt: own }); }, visit(BERTHS));
scenario('saml-signed-request', 'The request is signed.', [sound('berth-planner')],
  async (kit) => { kit.samlify({ wantSigned: true }); kit.berths({ sign: kit.pairs('berths') }); }, visit(BERTHS));
const py = async (kit, idp = {}, sp = {}, more = {}) => {
  const meta = idpMetadata('https://idp.harbourkey.example/saml', 'https://idp.harbourkey.example/sso', kit.pairs(more.pinned || 'harbourkey').cert, { slo: 'https://idp.harbourkey.example/slo', signed: Boolean(idp.want_signed) });
  const own = spMetadata(more.entity || 'https://galley.northmere.example/metadata', more.acs || 'https://galley.northmere.example/acs', { slo: 'https://galley.northmere.example/slo', cert: kit.pairs('galley').cert });
  await kit.py({ 'idp.harbourkey.example': { metadata: [own], ...idp } }, more.idpClock ? { clock: more.idpClock } : {});
  await kit.py({ 'galley.northmere.example': { metadata: [meta], provider: 'https://idp.harbourkey.example/saml', ...sp } }, more.spClock ? { clock: more.spClock } : {});
};
scenario('saml-galley', 'Provider and application on a third library.', [sound('galley-orders')], async (kit) => py(kit), visit(GALLEY));
scenario('saml-galley-encrypted', 'The assertion is encrypted, signed inside.', [sound('galley-orders')], async (kit) => py(kit, { encrypt: true }), visit(GALLEY));
scenario('saml-galley-both', 'Response and assertion are signed.', [sound('galley-orders')], async (kit) => py(kit, { sign_response: true }), visit(GALLEY));
scenario('saml-galley-signed-request', 'The provider wants signed requests and gets them.', [sound('galley-orders')], async (kit) => py(kit, { want_signed: true }, { sign: true }), visit(GALLEY));
scenario('saml-galley-sign-out', 'A sign-in and a sign-out.', [sound('galley-orders')], async (kit) => py(kit),
  async (page) => { await visit(GALLEY)(page); await page.click('#out'); await settle(page); });
scenario('saml-galley-force', 'ForceAuthn is asked for.', [sound('galley-orders')], async (kit) => py(kit, {}, { force: true }), visit(GALLEY));
scenario('saml-two-apps', 'Two applications in a row at one provider.', [sound('crew-roster'), sound('berth-planner')],
  async (kit) => { kit.samlify(); kit.roster(); kit.berths(); }, async (page) => { await visit(ROSTER)(page); await open(page, BERTHS); });
scenario('saml-two-tabs', 'Two tabs, both finish.', [sound('crew-roster'), sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); },
  async (page, context) => { const second = await context.newPage(); await open(page, `${ROSTER}a`); await open(second, `${ROSTER}b`); await signIn(page); await signIn(second); });
scenario('saml-abandoned', 'A first try is given up, the second goes through.', [sound('crew-roster', { has: ['earlier-try-abandoned'] })],
  async (kit) => { kit.samlify(); kit.roster(); }, async (page) => { await open(page, ROSTER); await open(page, 'about:blank'); await visit(ROSTER)(page); });
scenario('saml-second-try', 'A wrong password first.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); }, async (page) => { await open(page, ROSTER); await signIn(page, 'm.tern', 'no'); await signIn(page); });
scenario('saml-start-page', 'The application shows a page with a link to sign in.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ startPath: '/signin' }); }, async (page) => { await open(page, ROSTER); await page.click('#start'); await settle(page); await signIn(page); });
scenario('saml-page-at-acs', 'The application answers at its ACS URL with its page.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster({ landing: 'page' }); }, visit(ROSTER));
scenario('saml-lenient-audience', 'Another audience; the application does not check it and lets the user in.', [sound('crew-roster', { has: ['application-too-lenient'] })],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { audience: 'https://roster-test.northmere.example/saml' } } }); kit.roster({ audience: false }); }, visit(ROSTER));
scenario('saml-stale-entity', 'It works; the record has another entity ID for the application and for the provider\'s setup.', [sound('crew-roster', { has: ['record-contradicted'] })],
  async (kit) => { kit.samlify(); kit.roster(); }, visit(ROSTER), { record: [['apps/crew-roster.toml', '"https://roster.northmere.example/saml"', '"https://roster.northmere.example/saml-2024"']] });
scenario('saml-stale-pin', 'It works; the record pins last year\'s certificate.', [sound('crew-roster', { has: ['record-contradicted'] })],
  async (kit) => { kit.samlify(); kit.roster(); }, visit(ROSTER), { record: [['apps/crew-roster.toml', 'certs/skerry-saml.pem', 'certs/skerry-old.pem']] });

// SAML, broken.
scenario('saml-audience', 'The audience lost its end; the application says what it expected.', [broken('crew-roster', 'audience-mismatch')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { audience: 'https://roster.northmere.example/sam' } } }); kit.roster(); }, visit(ROSTER));
scenario('saml-audience-slash', 'A trailing slash is missing in the audience.', [broken('berth-planner', 'audience-mismatch')],
  async (kit) => { kit.samlify({ change: { [BERTHS_ID]: { audience: 'https://berths.northmere.example/saml' } } }); kit.berths(); }, visit(BERTHS));
scenario('saml-old-key', 'The provider signs with its next key; the application still pins the old one.', [broken('crew-roster', ['signed-by-other-known-key'])],
  async (kit) => { kit.samlify({ signWith: kit.pairs('skerry-saml') }); kit.roster({ idpCert: kit.pairs('skerry-old').cert }); }, visit(ROSTER),
  { record: [['apps/crew-roster.toml', 'certs/skerry-saml.pem', 'certs/skerry-old.pem']] });
scenario('saml-unknown-key', 'Signed with a key that nobody has on record.', [broken('crew-roster', ['signed-by-untrusted-key', 'signature-value-invalid'])],
  async (kit) => { kit.samlify({ signWith: kit.pairs('tidewater') }); kit.roster(); }, visit(ROSTER));
scenario('saml-unknown-sp', 'The provider does not know the application: its page says so.', [broken('crew-roster', ['request-rejected', 'identifier-in-request-unknown'])],
  async (kit) => { kit.samlify({ without: [ROSTER_ID] }); kit.roster(); }, async (page) => open(page, ROSTER));
scenario('saml-acs-unregistered', 'The request names an ACS URL that the provider does not have.', [broken('crew-roster', 'acs-not-registered')],
  async (kit) => { kit.samlify(); kit.roster({ acsPath: '/saml/consume' }); }, async (page) => open(page, ROSTER));
scenario('saml-entity-in-request', 'The application calls itself by another entity ID.', [broken('crew-roster', 'identifier-in-request-unknown')],
  async (kit) => { kit.samlify(); kit.roster({ entityId: 'https://roster.northmere.example/saml/' }); }, async (page) => open(page, ROSTER));
scenario('saml-unsigned-request', 'The provider wants signed requests; its page says so.', [broken('crew-roster', ['request-unsigned', 'request-rejected'])],
  async (kit) => { kit.samlify({ wantSigned: true }); kit.roster(); }, async (page) => open(page, ROSTER));
scenario('saml-galley-unsigned-request', 'The same with another library\'s page.', [broken('galley-orders', ['request-unsigned', 'request-rejected'])],
  async (kit) => py(kit, { want_signed: true }), async (page) => open(page, GALLEY));
scenario('saml-not-assigned', 'The provider says that the user is not assigned.', [broken('crew-roster', 'not-assigned')],
  async (kit) => { kit.samlify({ assigned: { [ROSTER_ID]: ['m.tern'] } }); kit.roster(); }, visit(ROSTER, 'a.fulmar'));
scenario('saml-galley-not-assigned', 'The same with status 403.', [broken('galley-orders', 'not-assigned')],
  async (kit) => py(kit, { not_assigned: ['a.fulmar'] }), visit(GALLEY, 'a.fulmar'));
scenario('saml-galley-refused', 'The provider answers with an error status.', [broken('galley-orders', 'provider-refused')],
  async (kit) => py(kit, { refuse: 'AuthnFailed', refuse_words: 'The account is locked.' }), async (page) => open(page, GALLEY));
scenario('saml-galley-passive', 'IsPassive without a session: NoPassive, and the application gives up.', [broken('galley-orders', 'provider-refused')],
  async (kit) => py(kit, {}, { passive: true }), async (page) => open(page, GALLEY));
scenario('saml-no-account', 'There is no account of that name.', [broken('berth-planner', 'account-not-found')],
  async (kit) => { kit.samlify(); kit.berths({ accounts: ['m.tern@northmere.example'] }); }, visit(BERTHS, 'a.fulmar'));
scenario('saml-name-login', 'The name is the login, not the address.', [broken('berth-planner', ['account-near-match', 'account-not-found'])],
  async (kit) => { kit.samlify({ nameOf: (name) => name }); kit.berths({ accounts: ['m.tern@northmere.example'] }); }, visit(BERTHS));
scenario('saml-role', 'A role that the application does not have.', [broken('crew-roster', 'claim-value-not-allowed')],
  async (kit) => { kit.samlify({ roleOf: () => 'Mate' }); kit.roster({ accept: (profile) => (['deckhand', 'mate'].includes(profile.role) ? null : `Role ${profile.role} is unknown.`) }); }, visit(ROSTER));
scenario('saml-recipient', 'Recipient is another address; the application says so.', [broken('galley-orders', ['recipient-mismatch', 'destination-mismatch'])],
  async (kit) => py(kit, { destination: null }, {}, { acs: 'https://galley.northmere.example/acs' }).then(() => kit), async (page) => open(page, GALLEY), { skip: true });
scenario('saml-acs-gone', 'The response is posted to an address that the application does not have: 404.', [broken('crew-roster', ['destination-mismatch', 'recipient-mismatch', 'http-error'])],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { acs: 'https://roster.northmere.example/saml/ac', strict: false } } }); kit.roster(); }, visit(ROSTER));
scenario('saml-clock', 'The application\'s clock is nine minutes behind: the assertion is not valid yet.', [broken('galley-orders', ['not-yet-valid', 'clock-offset'])],
  async (kit) => py(kit, {}, {}, { spClock: '-9m' }), visit(GALLEY));
scenario('saml-clock-ahead', 'The application\'s clock is twenty minutes ahead: the assertion has expired.', [broken('galley-orders', ['expired', 'clock-offset'])],
  async (kit) => py(kit, {}, {}, { spClock: '+20m' }), visit(GALLEY));
scenario('saml-provider-clock', 'The provider\'s clock is ten minutes ahead.', [broken('crew-roster', ['not-yet-valid', 'clock-offset'])],
  async (kit) => { kit.samlify({ shift: 600000 }); kit.roster(); }, visit(ROSTER));
scenario('saml-unsolicited', 'Started at the portal; the application wants an answer to its own request.', [broken('galley-orders', ['unsolicited-not-accepted'])],
  async (kit) => { await py(kit); }, async (page) => open(page, GALLEY), { skip: true });
scenario('saml-portal-refused', 'Started at the portal; the application accepts only answers to its requests.', [broken('crew-roster', 'unsolicited-not-accepted')],
  async (kit) => { kit.samlify(); kit.roster({ validate: 'always' }); }, visit(`https://sso.skerry.example/portal?to=${encodeURIComponent(ROSTER_ID)}`),
  { record: [['apps/crew-roster.toml', 'accepts_unsolicited  = true', 'accepts_unsolicited  = false']] });
scenario('saml-cookie-lost', 'The application needs its cookie at the ACS URL; it is SameSite=Strict, and the page says so.', [broken('crew-roster', 'session-cookie-lost')],
  async (kit) => { kit.samlify(); kit.roster({ before: 'HttpOnly; Secure; SameSite=Strict; Path=/', needBefore: true }); }, visit(ROSTER));
scenario('saml-galley-session-lost', 'The request ID is kept in a Strict cookie: the answer looks unsolicited.', [broken('galley-orders', 'session-cookie-lost')],
  async (kit) => py(kit, {}, { server_side: false, same_site: 'Strict' }), visit(GALLEY));
scenario('saml-loop', 'The session cookie is Secure with Path=/saml: round and round.', [broken('crew-roster', ['session-not-started', 'redirect-loop'])],
  async (kit) => { kit.samlify(); kit.roster({ session: 'HttpOnly; Secure; SameSite=Lax; Path=/saml' }); },
  async (page) => { await open(page, ROSTER); await page.fill('input[name=username]', 'm.tern'); await page.fill('input[name=password]', 'correct-horse'); await page.click('#go'); await page.waitForTimeout(1500); await page.goto('about:blank'); });
scenario('saml-replayed', 'Back and the form again: the same response is delivered twice.', [broken('crew-roster', ['replayed-message', 'response-to-unknown-request'])],
  async (kit) => { kit.samlify(); kit.roster({ validate: 'always', landing: 'page' }); },
  async (page) => { await visit(ROSTER)(page); await page.reload(); await settle(page); });
scenario('saml-encrypted-other', 'Encrypted to a key that the application no longer has.', [broken('berth-planner', 'encrypted-to-other-key')],
  async (kit) => { kit.samlify({ change: { [BERTHS_ID]: { encryptTo: kit.pairs('galley').cert } } }); kit.berths({ decrypt: kit.pairs('berths') }); }, visit(BERTHS));
scenario('saml-wrong-password', 'The password is wrong; the person gives up.', [broken('crew-roster', 'no-answer')],
  async (kit) => { kit.samlify(); kit.roster(); }, async (page) => { await open(page, ROSTER); await signIn(page, 'm.tern', 'no'); await signIn(page, 'm.tern', 'no'); });
scenario('saml-form-action', 'The provider\'s page may not post to the application.', [broken('crew-roster', 'blocked-by-browser')],
  async (kit) => { kit.samlify({ formPage: { 'content-security-policy': "form-action 'self'" } }); kit.roster(); }, visit(ROSTER));
scenario('saml-mute', 'The audience is wrong and the application says nothing.', [broken('crew-roster', 'audience-mismatch')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { audience: 'https://roster-test.northmere.example/saml' } } }); kit.roster({ sayWhy: false }); }, visit(ROSTER));
scenario('saml-relay-lost', 'The provider drops the relay state; the user lands on the home page.', [sound('crew-roster', { has: ['relay-state-unexpected'] })],
  async (kit) => { kit.samlify({ dropRelay: true }); kit.roster(); }, visit(`${ROSTER}watches?week=47`));
scenario('saml-no-in-response-to', 'The provider leaves InResponseTo out; the application does not mind.', [sound('crew-roster', { has: ['in-response-to-missing'] })],
  async (kit) => { kit.samlify({ noInResponse: true }); kit.roster(); }, visit(ROSTER));

// Those that follow were recorded when the judgement stood, and told how it does on what it had not seen.
const PRE = 'HttpOnly; Secure; SameSite=Lax; Path=/';
scenario('oidc-cookie-expired', 'The cookie for the sign-in lives for a second; the person takes longer.', [broken('ticket-desk', 'session-cookie-lost')],
  async (kit) => { await kit.op(); startRp({ transaction: `${PRE}; Max-Age=1` }); },
  async (page) => { await open(page, TICKETS); await page.waitForTimeout(1600); await signIn(page); });
scenario('oidc-hint-spelling', 'login_hint spells the person who signs in with capitals.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ params: { login_hint: 'M.Tern@Northmere.Example' } }); }, visit(TICKETS));
scenario('oidc-max-age', 'max_age is asked for and kept.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ params: { max_age: '3600' } }); }, visit(TICKETS));
scenario('oidc-noisy-tab', 'Another tab polls another site, which refuses with 401 all the time.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); const { serve } = await import('./world.mjs');
    serve('tides.harbour.example', (req, res) => { if (req.url === '/poll') { res.writeHead(401, { 'www-authenticate': 'Bearer error="invalid_token"' }); return res.end(); }
      return html(res, 200, 'Tides', '<h1>Tides</h1><script>setInterval(() => fetch("/poll", { headers: { authorization: "Bearer none" } }), 150)</script>'); }); },
  async (page, context) => { const other = await context.newPage(); await other.goto('https://tides.harbour.example/'); await visit(TICKETS)(page); await other.close(); });
scenario('oidc-call-sent-round', 'A call of the start page is redirected to the provider, which the browser forbids; then the person clicks and signs in.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ keepIn: 'memory', guest: (res) => html(res, 200, 'Ticket Desk', '<h1>Ticket Desk</h1><a id="in" href="/login">Sign in</a><script>fetch("/login").catch(() => 0)</script>') }); },
  async (page) => { await open(page, TICKETS); await page.click('#in'); await settle(page); await signIn(page); });
scenario('oidc-session-strict', 'The session cookie is SameSite=Strict and set in the chain that comes from the provider: it is not sent on, and the browser goes round.', [broken('ticket-desk', ['session-not-started', 'redirect-loop', 'session-cookie-lost'])],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; Secure; SameSite=Strict; Path=/' }); }, visit(TICKETS));
scenario('oidc-session-strict-script', 'The same, and the callback page goes on by a script: the cookie is sent.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; Secure; SameSite=Strict; Path=/', landing: 'script' }); }, visit(TICKETS));
scenario('oidc-session-domain', 'The session cookie is set for a domain that is not the application\'s: the browser refuses it.', [broken('ticket-desk', ['session-not-started', 'redirect-loop'])],
  async (kit) => { await kit.op(); startRp({ session: `${PRE}; Domain=harbour.example` }); }, visit(TICKETS));
scenario('oidc-shared-domain', 'Started at desk., came back at tickets.; the cookie is for the domain of both.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ alsoAt: ['desk.northmere.example'], transaction: `${PRE}; Domain=northmere.example`, session: `${PRE}; Domain=northmere.example` }); },
  visit('https://desk.northmere.example/'));
scenario('oidc-group-missing', 'The groups come, and the one that is needed is not among them.', [broken('fuel-ledger', ['claim-value-not-allowed', 'group-unmapped', 'http-error'])],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, group: 'grp-captains', scope: 'openid email profile groups' } }); }, visit(FUEL),
  { record: [['apps/fuel-ledger.toml', '"profile"]', '"profile", "groups"]'], ['apps/fuel-ledger.toml', 'need   = "may"', 'need   = "must"'], ['apps/fuel-ledger.toml', 'grp-bridge', 'grp-captains']] });
scenario('oidc-no-address', 'The scope email was not asked for; the application says that the address is missing.', [broken('ticket-desk', ['scope-not-granted', 'claim-missing', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ scope: 'openid profile', accept: (claims) => (claims.email ? null : 'The token holds no email address.') }); }, visit(TICKETS));
scenario('oidc-session-runs-out', 'The session of the application ends after a second; the next click signs in again without a prompt.', [sound('ticket-desk'), sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ session: `${PRE}; Max-Age=1` }); },
  async (page) => { await visit(TICKETS)(page); await page.waitForTimeout(1300); await open(page, `${TICKETS}next`); });
scenario('oidc-other-person', 'One person signs in and out, then another signs in.', [sound('ticket-desk'), sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp(); },
  async (page) => { await visit(TICKETS)(page); await page.click('#out'); await settle(page); await page.click('#yes'); await settle(page); await open(page, TICKETS); await signIn(page, 'a.fulmar'); });
scenario('oidc-denied-then-allowed', 'The consent is refused, then given.', [broken('ticket-desk', ['provider-refused', 'consent-missing']), sound('ticket-desk')],
  async (kit) => { await kit.op({ consent: true }); startRp(); },
  async (page) => { await visit(TICKETS)(page); await page.click('#deny'); await settle(page); await open(page, TICKETS); await page.click('#allow'); await settle(page); });
scenario('oidc-german-refusal', 'The application refuses in another language.', [broken('ticket-desk', ['account-not-found', 'http-error'])],
  async (kit) => { await kit.op(); startRp({ accept: () => 'Für m.tern wurde kein Benutzerkonto gefunden.', title: 'Kein Zugriff' }); }, visit(TICKETS));
scenario('oidc-flask-secret', 'Another library: the secret is wrong, and the page says so.', [broken('fuel-ledger', ['token-request-refused', 'http-error'])],
  async (kit) => { await kit.op(); await kit.py({ 'fuel.northmere.example': { issuer: SKERRY, secret: 'another-secret-of-the-recording' } }); }, visit(FUEL));
scenario('spa-uri-unregistered', 'The redirect URI of a single-page application is not registered.', [broken('chart-room', 'redirect-uri-mismatch')],
  async (kit) => { await kit.op(); await startSpa({ callback: '/callback' }); }, async (page) => open(page, CHARTS));
scenario('spa-denied', 'The consent is refused.', [broken('chart-room', ['provider-refused', 'consent-missing'])],
  async (kit) => { await kit.op({ consent: true }); await startSpa(); },
  async (page) => { await visit(CHARTS)(page); await page.click('#deny'); await settle(page); });
scenario('spa-id-token-sent', 'The interface gets the ID token instead of the access token and refuses it.', [broken('chart-room', ['api-refused', 'wrong-token-kind'])],
  async (kit) => { await kit.op(); await startSpa({ resource: 'https://api.northmere.example', api: API, scope: 'openid profile email charts.read', sendIdToken: true }); }, visit(CHARTS));
scenario('spa-twice', 'The page is loaded again: a second sign-in without a prompt.', [sound('chart-room'), sound('chart-room')],
  async (kit) => { await kit.op(); await startSpa(); }, async (page) => { await visit(CHARTS)(page); await open(page, CHARTS); });
scenario('saml-two-providers', 'Two applications in a row, each at its own provider.', [sound('crew-roster'), sound('galley-orders')],
  async (kit) => { kit.samlify(); kit.roster(); await py(kit); },
  async (page) => { await visit(ROSTER)(page); await open(page, GALLEY); await signIn(page); });
scenario('saml-mended', 'The audience is wrong; it is set right, and the second try goes through.', [broken('crew-roster', 'audience-mismatch'), sound('crew-roster')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { audience: 'https://roster.northmere.example/saml/x' } } }); kit.roster(); kit.mend = () => kit.samlify(); },
  async (page, context, kit) => { await visit(ROSTER)(page); kit.mend(); await visit(ROSTER)(page); });
scenario('saml-persistent', 'Another name format than was asked for; the application does not mind.', [sound('crew-roster')],
  async (kit) => { kit.samlify({ format: 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', nameOf: () => 'u-7781' }); kit.roster(); }, visit(ROSTER));
scenario('saml-galley-unknown-sp', 'Another library\'s provider does not know the application.', [broken('galley-orders', ['request-rejected', 'identifier-in-request-unknown'])],
  async (kit) => py(kit, {}, { entity_id: 'https://galley.northmere.example/other' }), async (page) => open(page, GALLEY));
scenario('saml-galley-pinned-other', 'The application holds a certificate that the provider does not sign with; the record says otherwise.', [broken('galley-orders', ['http-error', 'session-not-started', 'signed-by-untrusted-key', 'signed-by-other-known-key', 'signature-value-invalid'])],
  async (kit) => py(kit, {}, {}, { pinned: 'tidewater' }), visit(GALLEY));
scenario('saml-portal-then-start', 'From the portal, then by the application\'s own address in the same browser.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); },
  async (page) => { await visit(`https://sso.skerry.example/portal?to=${encodeURIComponent(ROSTER_ID)}`)(page); await open(page, ROSTER); });
scenario('saml-page-breaks', 'Signed in; the page that follows fails with 500.', [broken('crew-roster', 'http-error')],
  async (kit) => { kit.samlify(); kit.roster({ home: (res) => html(res, 500, 'Crew Roster', '<h1>Internal error</h1><p>NullPointer in WatchList</p>') }); }, visit(ROSTER));
scenario('saml-post-audience', 'The request is posted; the audience is that of the test system.', [broken('crew-roster', 'audience-mismatch')],
  async (kit) => { kit.samlify({ change: { [ROSTER_ID]: { audience: 'https://roster-test.northmere.example/saml' } } }); kit.roster({ method: 'post', saml: { authnRequestBinding: 'HTTP-POST', skipRequestCompression: true } }); }, visit(ROSTER));
for (const one of SCENARIOS.filter((each) => each.skip)) SCENARIOS.splice(SCENARIOS.indexOf(one), 1);
