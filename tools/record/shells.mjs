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

// What is served to everybody, and interfaces that answer 200 to whom they do not know, saying so in their JSON alone.
const TOLD = `fetch('/api/session').then((answer) => answer.json()).then((told) => {
  const person = told && (told.user || (told.data && told.data.me));
  if (told && told.authenticated !== false && person) { app.innerHTML = '<h1>Desk</h1><p id="who"></p>'; document.getElementById('who').textContent = person.name; }
  else { ${OFFER} }
});`;
const asking = (script) => `<!doctype html><html><head><title>Desk</title></head><body><div id="app"></div><script>
const app = document.getElementById('app');
${script}
</script></body></html>`;
// The shell with a script of its own, and an interface that knows by which session a call comes.
const deskWith = (script, answer, rp = {}) => async (kit) => {
  await kit.op(); startRp(rp);
  const rest = handlerOf('tickets.northmere.example');
  serve('tickets.northmere.example', (req, res) => {
    const path = req.url.split('?')[0];
    if (path === '/' && req.method === 'GET') { res.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }); return res.end(asking(script)); }
    if (path.startsWith('/api/')) return answer(req, res, cookiesOf(req).desk_session, path);
    return rest(req, res);
  });
};
const NOBODY = { authenticated: false }, TERN = { name: 'M. Tern' };
const CONFIGURED = `fetch('/api/config').then((answer) => answer.json()).then(() => fetch('/api/me')).then(async (answer) => {
  if (answer.ok) { app.innerHTML = '<h1>Desk</h1><p id="who"></p>'; document.getElementById('who').textContent = (await answer.json()).name; }
  else { ${OFFER} }
});`;
const config = (res) => json(res, 200, { theme: 'harbour', languages: ['en', 'nb'] });
const graph = `fetch('/api/graph', { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"query":"{ me { name } }"}' }).then((answer) => answer.json()).then((told) => {
  if (told.data.me) { app.innerHTML = '<h1>Desk</h1><p id="who"></p>'; document.getElementById('who').textContent = told.data.me.name; } else { ${OFFER} }
});`;

scenario('shell-says-nobody', 'The server does not know its session, and says so with status 200.', [broken('ticket-desk', 'session-not-started')],
  deskWith(TOLD, (req, res) => json(res, 200, NOBODY)), straight);
scenario('shell-says-nobody-from-desk', 'The same, from the shell.', [broken('ticket-desk', 'session-not-started')],
  deskWith(TOLD, (req, res) => json(res, 200, NOBODY)), fromDesk);
scenario('shell-user-null', 'It answers that the user is null, before and after.', [broken('ticket-desk', 'session-not-started')],
  deskWith(TOLD, (req, res) => json(res, 200, { user: null })), fromDesk);
scenario('shell-says-somebody', 'The same interface knows the session.', [sound('ticket-desk')],
  deskWith(TOLD, (req, res, session) => json(res, 200, session ? { authenticated: true, user: TERN } : NOBODY)), fromDesk);
scenario('shell-says-nobody-round', 'It says so, and the page goes to sign in by itself.', [broken('ticket-desk', ['redirect-loop', 'session-not-started'])],
  deskWith(TOLD.replace(OFFER, ROUND), (req, res) => json(res, 200, NOBODY)), straight);
scenario('shell-public-beside', 'What everybody gets is served; who is there, is not known.', [broken('ticket-desk', 'session-not-started')],
  deskWith(CONFIGURED, (req, res, session, path) => (path === '/api/config' ? config(res) : unknown(req, res))), fromDesk);
scenario('shell-public-beside-straight', 'The same, from the address for signing in.', [broken('ticket-desk', 'session-not-started')],
  deskWith(CONFIGURED, (req, res, session, path) => (path === '/api/config' ? config(res) : unknown(req, res))), straight);
scenario('shell-public-works', 'What everybody gets, then the person; a third call is for others and is answered 401.', [sound('ticket-desk')],
  deskWith(CONFIGURED, (req, res, session, path) => (path === '/api/config' ? config(res) : path === '/api/figures' ? unknown(req, res) : known(req, res, session))),
  async (page) => { await straight(page); await page.evaluate(() => fetch('/api/figures')); await settle(page); });
scenario('shell-graph-nobody', 'One address for all questions; it answers that nobody is there.', [broken('ticket-desk', 'session-not-started')],
  deskWith(graph, (req, res) => json(res, 200, { data: { me: null } })), straight);
scenario('shell-graph-works', 'The same, and it names the person.', [sound('ticket-desk')],
  deskWith(graph, (req, res, session) => json(res, 200, { data: { me: session ? TERN : null } })), fromDesk);
scenario('shell-forbidden', 'The session is known, and all that the page calls is forbidden.', [broken('ticket-desk', ['http-error', 'session-not-started', 'not-assigned'])],
  deskWith(CONFIGURED, (req, res, session, path) => json(res, session ? 403 : 401, { error: 'forbidden' })), straight);
scenario('shell-no-account', 'The interface forbids it, and says that there is no account.', [broken('ticket-desk', 'account-not-found')],
  deskWith(CONFIGURED, (req, res, session) => json(res, session ? 403 : 401, { error: 'forbidden', message: 'No account exists for this user.' })), straight);
scenario('shell-fails', 'All that the page calls with the session fails on the server.', [broken('ticket-desk', 'http-error')],
  deskWith(CONFIGURED, (req, res, session) => json(res, session ? 500 : 401, { error: 'internal' })), straight);
const renewing = `fetch('/api/renew', { method: 'POST' }).then(async (answer) => {
  if (!answer.ok) { ${OFFER} return; }
  const { token } = await answer.json();
  const me = await fetch('/api/me', { headers: { authorization: 'Bearer ' + token } });
  if (me.ok) { app.innerHTML = '<h1>Desk</h1><p id="who"></p>'; document.getElementById('who').textContent = (await me.json()).name; } else { ${OFFER} }
});`;
scenario('shell-renews', 'The page gets a token by its session and calls with it.', [sound('ticket-desk')],
  deskWith(renewing, (req, res, session, path) => (path === '/api/renew' ? (session ? json(res, 200, { token: 'of-the-desk-1' }) : json(res, 401, {})) : req.headers.authorization === 'Bearer of-the-desk-1' ? json(res, 200, TERN) : json(res, 401, {}))), fromDesk);
scenario('shell-renewal-refused', 'The page asks for a token by its session, and is refused.', [broken('ticket-desk', 'session-not-started')],
  deskWith(renewing, (req, res) => json(res, 401, { error: 'no session' })), straight);
scenario('shell-empty-then-list', 'An older page asks for lists, some of them empty, and works.', [sound('ticket-desk')],
  deskWith(`Promise.all(['/api/news', '/api/list'].map((one) => fetch(one).then((answer) => (answer.ok ? answer.json() : Promise.reject())))).then((told) => { app.innerHTML = '<h1>Desk</h1><p>' + told[1].length + ' tickets</p><a href="/out">Sign out</a>'; }).catch(() => { ${OFFER} });`,
    (req, res, session, path) => (!session ? json(res, 401, {}) : path === '/api/news' ? json(res, 200, []) : json(res, 200, [{ id: 1, assignee: null }, { id: 2, user: null }]))), fromDesk);
