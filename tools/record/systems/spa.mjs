// A single-page application: openid-client in the browser, and an interface of its own that takes access tokens.
import fs from 'node:fs';
import * as jose from 'jose';
import esbuild from 'esbuild';
import { bodyOf, cookiesOf, page, serve } from '../world.mjs';

let bundle;
async function library() {
  bundle ??= (await esbuild.build({ stdin: { contents: "export * from 'openid-client'", resolveDir: process.cwd() }, bundle: true, format: 'esm', write: false, minify: true })).outputFiles[0].text;
  return bundle;
}

export async function startSpa({ host = 'charts.northmere.example', issuer = 'https://login.skerry.example', clientId = 'chart-room', scope = 'openid profile email',
  resource = null, api = null, csp = null, backend = false, silent = false, silentFirst = false, popup = false, fragment = false, title = 'Chart Room',
  callback = '/signin-callback', refresh = false, refuseApi = null, apiAudience = 'https://api.northmere.example', apiScope = 'charts.read', show = true, landing = 'stay', sendIdToken = false, fault = null, apiAllows = true } = {}) {
  const code = await library();
  const settings = JSON.stringify({ issuer, clientId, scope, resource, api, backend, silent, silentFirst, popup, fragment, callback, refresh, show, landing, host, sendIdToken, fault });
  const sessions = new Map();
  serve(host, async (req, res) => {
    const url = new URL(req.url, `https://${host}`);
    if (url.pathname === '/lib.js') { res.writeHead(200, { 'content-type': 'text/javascript' }); return res.end(code); }
    if (url.pathname === '/app.js') { res.writeHead(200, { 'content-type': 'text/javascript' }); return res.end(`const settings=${settings};\n${fs.readFileSync(new URL('./spa-client.js', import.meta.url))}`); }
    if (url.pathname === '/api/session' && req.method === 'POST') {
      const given = JSON.parse(await bodyOf(req));
      const id = String(Math.random());
      sessions.set(id, jose.decodeJwt(given.id_token));
      res.writeHead(204, { 'set-cookie': `chart_session=${id}; HttpOnly; Secure; SameSite=Strict; Path=/` });
      return res.end();
    }
    if (url.pathname === '/api/me') {
      const held = sessions.get(cookiesOf(req).chart_session);
      res.writeHead(held ? 200 : 401, { 'content-type': 'application/json' });
      return res.end(JSON.stringify(held ? { name: held.name, sub: held.sub } : { message: 'no session' }));
    }
    if (url.pathname === '/favicon.ico') { res.writeHead(204); return res.end(); }
    return page(res, 200, title, `<div id="app">Loading…</div><script type="module" src="/app.js"></script>`, csp ? { 'content-security-policy': csp } : {});
  });
  if (api) {
    const keys = jose.createRemoteJWKSet(new URL(`${issuer}/jwks`));
    serve(new URL(api).host, async (req, res) => {
      const cross = !apiAllows ? {} : { 'access-control-allow-origin': `https://${host}`, 'access-control-allow-headers': 'authorization', 'access-control-expose-headers': 'www-authenticate' };
      if (req.method === 'OPTIONS') { res.writeHead(204, cross); return res.end(); }
      const refuse = (status, error, words) => {
        res.writeHead(status, { ...cross, 'content-type': 'application/json', 'www-authenticate': `Bearer realm="charts", error="${error}", error_description="${words}"${error === 'insufficient_scope' ? ` scope="${apiScope}"` : ''}` });
        res.end(JSON.stringify({ error }));
      };
      const token = (req.headers.authorization || '').replace(/^Bearer /, '');
      if (!token) { res.writeHead(401, { ...cross, 'www-authenticate': 'Bearer realm="charts"' }); return res.end(); }
      try {
        const { payload } = await jose.jwtVerify(token, keys, { issuer, audience: apiAudience });
        if (!(payload.scope || '').split(' ').includes(apiScope)) return refuse(403, 'insufficient_scope', `scope ${apiScope} is needed`);
        res.writeHead(200, { ...cross, 'content-type': 'application/json' });
        return res.end(JSON.stringify({ charts: ['Outer Skerry', 'North Sound'] }));
      } catch (error) { return refuse(401, 'invalid_token', error.message.replaceAll('"', "'")); }
    });
  }
}
