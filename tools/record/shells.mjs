// Applications whose page is drawn by scripts: everybody gets the same shell, and whether the session is known shows only in
// what the page calls. The expectations were written before any of the exports was diagnosed, and are told as elsewhere.
import { open, settle, signIn } from './kit.mjs';
import { startRp } from './systems/rp.mjs';
import { cookiesOf, handlerOf, page as html, serve } from './world.mjs';

const TICKETS = 'https://tickets.northmere.example/';
const ROSTER = 'https://roster.northmere.example/';
const sound = (app, more = {}) => ({ outcome: 'sound', app, ...more });
const broken = (app, first, more = {}) => ({ outcome: 'broken', app, first: [first].flat(), ...more });

export const SHELLS = [];
const scenario = (name, what, expect, set, drive) => SHELLS.push({ name, what, expect, works: expect.every((one) => one.outcome === 'sound'), set, drive });
const json = (res, status, body, headers = {}) => { res.writeHead(status, { 'content-type': 'application/json', ...headers }); res.end(JSON.stringify(body)); };

// The shell, and what it does with the answer to /api/me: it draws the person, or offers to sign in, or goes to sign in itself.
const shell = (then, api = '/api/me') => `<!doctype html><html><head><title>Desk</title></head><body><div id="app"></div><script>
const app = document.getElementById('app');
fetch('${api}', { credentials: 'include' }).then(async (answer) => {
  if (answer.ok) { app.innerHTML = '<h1>Desk</h1><p id="who"></p>'; document.getElementById('who').textContent = (await answer.json()).name; }
  else { ${then} }
}).catch(() => { app.innerHTML = '<p>Offline</p>'; });
</script></body></html>`;
const OFFER = 'app.innerHTML = \'<h1>Welcome</h1><a id="in" href="/login">Sign in</a>\';';
const ROUND = 'const tries = Number(sessionStorage.tries || 0); sessionStorage.tries = tries + 1; if (tries < 3) location.href = "/login"; else app.innerHTML = "<p>Something is wrong.</p>";';

// Puts the shell and its interface before an application; `me` answers for the session.
function drawn(host, cookie, { then = OFFER, me, api }) {
  const rest = handlerOf(host);
  serve(host, (req, res) => {
    const path = req.url.split('?')[0];
    if (path === '/' && req.method === 'GET') { res.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }); return res.end(shell(then, api)); }
    if (path.startsWith('/api/')) return me(req, res, cookiesOf(req)[cookie]);
    return rest(req, res);
  });
}
const known = (req, res, session) => (session ? json(res, 200, { name: 'M. Tern' }) : json(res, 401, { error: 'unauthenticated' }));
const unknown = (req, res) => json(res, 401, { error: 'unauthenticated' });
const fromDesk = async (page) => { await open(page, TICKETS); await page.click('#in'); await settle(page); await signIn(page); await settle(page); };
const straight = async (page) => { await open(page, `${TICKETS}login`); await signIn(page); await settle(page); };
const desk = (told) => async (kit) => { await kit.op(); startRp(); drawn('tickets.northmere.example', 'desk_session', told); };

scenario('shell-works', 'The shell asks who is there, offers to sign in, and after that draws the person.', [sound('ticket-desk')], desk({ me: known }), fromDesk);
scenario('shell-straight', 'The same, from the address for signing in.', [sound('ticket-desk')], desk({ me: known }), straight);
scenario('shell-unknown', 'The server does not know the session that it has given; the page offers to sign in again.', [broken('ticket-desk', 'session-not-started')], desk({ me: unknown }), straight);
scenario('shell-unknown-from-desk', 'The same, from the shell.', [broken('ticket-desk', 'session-not-started')], desk({ me: unknown }), fromDesk);
scenario('shell-round', 'The same, and the page goes to sign in by itself, three times.', [broken('ticket-desk', ['redirect-loop', 'session-not-started'])], desk({ me: unknown, then: ROUND }), straight);
scenario('shell-cookie-kept-back', 'The session cookie is for another path, so that no call brings it.', [broken('ticket-desk', ['session-cookie-lost', 'session-not-started'])],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; Secure; SameSite=Lax; Path=/app' }); drawn('tickets.northmere.example', 'desk_session', { me: known }); }, straight);
scenario('shell-one-part-forbidden', 'The person is drawn; another part of the interface is not allowed.', [sound('ticket-desk')],
  desk({ me: (req, res, session) => (req.url.startsWith('/api/figures') ? json(res, 403, { error: 'forbidden' }) : known(req, res, session)) }),
  async (page) => { await straight(page); await page.evaluate(() => fetch('/api/figures')); await settle(page); });
scenario('shell-ends-later', 'Signed in; the session ends on the server, and the next call is refused.', [sound('ticket-desk')],
  async (kit) => { let ended = false; await kit.op(); startRp(); drawn('tickets.northmere.example', 'desk_session', { me: (req, res, session) => { if (req.url.endsWith('end')) ended = true; return ended ? unknown(req, res) : known(req, res, session); } }); },
  async (page) => { await straight(page); await page.evaluate(() => fetch('/api/end')); await page.evaluate(() => fetch('/api/me')); await settle(page); });
scenario('shell-beside', 'The interface is at a host of its own, and the cookie for the whole domain.', [sound('ticket-desk')],
  async (kit) => { await kit.op(); startRp({ session: 'HttpOnly; Secure; SameSite=Lax; Path=/; Domain=northmere.example' });
    drawn('tickets.northmere.example', 'desk_session', { me: unknown, api: 'https://desk-api.northmere.example/me' });
    serve('desk-api.northmere.example', (req, res) => { const allow = { 'access-control-allow-origin': 'https://tickets.northmere.example', 'access-control-allow-credentials': 'true' };
      return cookiesOf(req).desk_session ? json(res, 200, { name: 'M. Tern' }, allow) : json(res, 401, {}, allow); }); }, straight);
scenario('shell-saml', 'The same by SAML: the shell draws the person after the return.', [sound('crew-roster')],
  async (kit) => { kit.samlify(); kit.roster(); const start = handlerOf('roster.northmere.example'); drawn('roster.northmere.example', 'roster_session', { me: known });
    const rest = handlerOf('roster.northmere.example'); serve('roster.northmere.example', (req, res) => { if (req.url === '/login') { req.url = '/'; return start(req, res); } return rest(req, res); }); },
  async (page) => { await open(page, `${ROSTER}login`); await signIn(page); await settle(page); });
scenario('shell-saml-unknown', 'By SAML, and the server does not know the session that it has given.', [broken('crew-roster', 'session-not-started')],
  async (kit) => { kit.samlify(); kit.roster(); const start = handlerOf('roster.northmere.example'); drawn('roster.northmere.example', 'roster_session', { me: unknown });
    const rest = handlerOf('roster.northmere.example'); serve('roster.northmere.example', (req, res) => { if (req.url === '/login') { req.url = '/'; return start(req, res); } return rest(req, res); }); },
  async (page) => { await open(page, `${ROSTER}login`); await signIn(page); await settle(page); });
