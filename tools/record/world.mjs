// The made-up network on loopback: one TLS front for all hosts under .example, each name led to its own handler.
import { execFileSync } from 'node:child_process';
import dns from 'node:dns';
import fs from 'node:fs';
import http from 'node:http';
import https from 'node:https';
import path from 'node:path';

export const HOSTS = [
  'login.skerry.example', 'sso.skerry.example', 'idp.harbourkey.example', 'accounts.tidewater.example', 'id.northmere.example',
  'tickets.northmere.example', 'fuel.northmere.example', 'charts.northmere.example', 'api.northmere.example',
  'roster.northmere.example', 'berths.northmere.example', 'galley.northmere.example', 'desk.northmere.example',
  'portal.northmere.example',
];

/** Keys and certificates, made once for each recording: an authority, one server certificate, one signing pair a name. */
export function makeKeys(folder) {
  fs.mkdirSync(folder, { recursive: true });
  const run = (...args) => execFileSync('openssl', args, { cwd: folder, stdio: 'pipe' });
  if (!fs.existsSync(path.join(folder, 'server.pem'))) {
    run('req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'ca.key', '-out', 'ca.pem', '-days', '3650',
      '-subj', '/CN=Recording Authority');
    fs.writeFileSync(path.join(folder, 'san.ext'), `subjectAltName=${HOSTS.map((h) => `DNS:${h}`).join(',')}`);
    run('req', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'server.key', '-out', 'server.csr', '-subj', '/CN=northmere.example');
    run('x509', '-req', '-in', 'server.csr', '-CA', 'ca.pem', '-CAkey', 'ca.key', '-CAcreateserial', '-days', '3650',
      '-extfile', 'san.ext', '-out', 'server.pem');
  }
  return (name) => {
    if (!fs.existsSync(path.join(folder, `${name}.pem`))) {
      run('req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', `${name}.key`, '-out', `${name}.pem`, '-days', '3650',
        '-subj', `/CN=${name}.example`);
    }
    return {
      key: fs.readFileSync(path.join(folder, `${name}.key`), 'utf8'),
      cert: fs.readFileSync(path.join(folder, `${name}.pem`), 'utf8'),
      keyFile: path.join(folder, `${name}.key`), certFile: path.join(folder, `${name}.pem`),
    };
  };
}

const handlers = new Map();

export function serve(host, handler) { handlers.set(host, handler); }
export function handlerOf(host) { return handlers.get(host); }
export function clear() { handlers.clear(); }

function dispatch(req, res) {
  const host = (req.headers.host || '').split(':')[0].toLowerCase();
  const handler = handlers.get(host);
  if (!handler) {
    res.writeHead(404, { 'content-type': 'text/html' });
    res.end('<html><head><title>404 Not Found</title></head><body><h1>Not Found</h1></body></html>');
    return;
  }
  Promise.resolve(handler(req, res)).catch((error) => {
    console.error(host, req.url, error);
    if (!res.headersSent) res.writeHead(500, { 'content-type': 'text/plain' });
    res.end('Internal Server Error');
  });
}

/** Stand between the browser and a host: alter the address asked for, where an answer leads, and what its page says. */
export function between(host, { asked = (url) => url, leads = (to) => to, says = null, wait = 0 } = {}) {
  const rest = handlers.get(host);
  serve(host, async (req, res) => {
    req.url = asked(req.url);
    if (wait) await new Promise((done) => setTimeout(done, wait));
    const set = res.setHeader.bind(res), head = res.writeHead.bind(res), end = res.end.bind(res);
    res.setHeader = (name, value) => set(name, name.toLowerCase() === 'location' ? leads(String(value)) : value);
    res.writeHead = (status, headers = {}) => head(status, Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, name.toLowerCase() === 'location' ? leads(String(value)) : value])));
    if (says) res.end = (body, ...more) => { const text = says(String(body ?? '')); if (!res.headersSent) res.removeHeader('content-length'); return end(text, ...more); };
    return rest(req, res);
  });
}

/** Listen on 443 and 80 of loopback, and let this process find every .example name there. */
export async function listen(folder) {
  const lookup = dns.lookup;
  dns.lookup = (name, options, callback) => {
    if (typeof options === 'function') { callback = options; options = {}; }
    if (!name.endsWith('.example')) return lookup(name, options, callback);
    return options?.all ? callback(null, [{ address: '127.0.0.1', family: 4 }]) : callback(null, '127.0.0.1', 4);
  };
  const tls = { key: fs.readFileSync(path.join(folder, 'server.key')), cert: fs.readFileSync(path.join(folder, 'server.pem')) };
  const front = https.createServer(tls, dispatch);
  const plain = http.createServer(dispatch);
  await Promise.all([new Promise((done) => front.listen(443, '127.0.0.1', done)),
    new Promise((done) => plain.listen(80, '127.0.0.1', done))]);
  return () => { front.closeAllConnections(); plain.closeAllConnections(); front.close(); plain.close(); };
}

/** Hand a host's requests on to a server on another port of loopback. */
export function proxyTo(port) {
  return (req, res) => new Promise((done) => {
    const headers = { ...req.headers, 'x-forwarded-proto': req.socket.encrypted ? 'https' : 'http' };
    const out = http.request({ host: '127.0.0.1', port, method: req.method, path: req.url, headers }, (back) => {
      res.writeHead(back.statusCode, back.rawHeaders.reduce((all, value, i, raw) => {
        if (i % 2) return all;
        const name = value.toLowerCase();
        if (name === 'connection' || name === 'server') return all;
        (all[name] ??= []).push(raw[i + 1]);
        return all;
      }, {}));
      back.pipe(res); back.on('end', done);
    });
    out.on('error', (error) => { res.writeHead(502); res.end(String(error)); done(); });
    req.pipe(out);
  });
}

export async function bodyOf(req) {
  const parts = [];
  for await (const part of req) parts.push(part);
  return Buffer.concat(parts).toString();
}

export function cookiesOf(req) {
  return Object.fromEntries((req.headers.cookie || '').split(';').map((one) => one.trim().split('=')).filter((one) => one[0])
    .map(([name, ...value]) => [name, value.join('=')]));
}

export function page(res, status, title, body, headers = {}) {
  res.writeHead(status, { 'content-type': 'text/html; charset=utf-8', date: new Date().toUTCString(), ...headers });
  res.end(`<!doctype html><html><head><meta charset="utf-8"><title>${title}</title></head><body>${body}</body></html>`);
}

export function redirect(res, location, headers = {}) { res.writeHead(302, { location, ...headers }); res.end(); }
