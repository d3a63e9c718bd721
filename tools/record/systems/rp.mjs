// An application on the library openid-client, with knobs for all that applications do differently.
import crypto from 'node:crypto';
import * as client from 'openid-client';
import { bodyOf, cookiesOf, page, redirect, serve } from '../world.mjs';

export function startRp({ host = 'tickets.northmere.example', issuer = 'https://login.skerry.example', clientId = 'ticket-desk',
  secret = 'ticket-desk-secret-of-the-recording', redirectUri = null, responseType = 'code', responseMode = null, scope = 'openid profile email',
  pkce = true, useState = true, useNonce = true, params = {}, transaction = 'HttpOnly; Secure; SameSite=Lax; Path=/', keepIn = 'cookie',
  session = 'HttpOnly; Secure; SameSite=Lax; Path=/', sessionName = 'desk_session', landing = 'redirect', title = 'Ticket Desk', home = homePage,
  alsoAt = [], startAt = '/', login = '/login', accept = () => null, par = false, passiveFirst = false, startElsewhere = null, expected = null,
  errorStatus = 500, sayWhy = true, guest = null, lang = 'en', oneCookie = false, failTo = null, plainError = false, breakVerifier = false, breakNonce = false, wait = 0, failText = 'Your account could not be found.', algorithm = 'RS256', jarm = false, decrypt = null, signed = null } = {}) {
  const back = redirectUri || `https://${host}/callback`;
  const where = new URL(back).pathname;
  const sessions = new Map();
  const waiting = new Map();
  let config;
  const discovered = async () => {
    if (config) return config;
    config = await client.discovery(new URL(issuer), clientId, { id_token_signed_response_alg: algorithm }, secret ? client.ClientSecretBasic(secret) : client.None());
    if (jarm) client.useJwtResponseMode(config);
    if (decrypt) client.enableDecryptingResponses(config, ['A128CBC-HS256'], decrypt);
    if (responseType === 'id_token') client.useIdTokenResponseType(config);
    if (responseType === 'code id_token') client.useCodeIdTokenResponseType(config);
    return config;
  };
  const begin = async (req, res, more = {}) => {
    const conf = await discovered();
    const kept = { verifier: client.randomPKCECodeVerifier(), state: useState ? client.randomState() : undefined, nonce: useNonce ? client.randomNonce() : undefined, to: req.url };
    const asked = { redirect_uri: back, scope, response_type: responseType, ...(responseMode && { response_mode: responseMode }),
      ...(pkce && responseType.includes('code') && { code_challenge: await client.calculatePKCECodeChallenge(kept.verifier), code_challenge_method: 'S256' }),
      ...(useState && { state: kept.state }), ...(useNonce && { nonce: kept.nonce }), ...params, ...more };
    const url = signed ? await client.buildAuthorizationUrlWithJAR(conf, asked, signed) : par ? await client.buildAuthorizationUrlWithPAR(conf, asked) : client.buildAuthorizationUrl(conf, asked);
    const id = crypto.randomUUID();
    waiting.set(keepIn === 'memory' ? kept.state : id, kept);
    const set = keepIn === 'cookie' ? [`desk_login=${id}; ${transaction}`] : [];
    if (oneCookie && !cookiesOf(req)[sessionName]) set.push(`${sessionName}=${crypto.randomUUID()}; ${session}`);
    redirect(res, url.href, set.length ? { 'set-cookie': set } : {});
  };
  const fail = (res, why) => failTo ? redirect(res, `${failTo}?error=1`, {}) : plainError ? (res.writeHead(errorStatus, { 'content-type': 'text/plain' }), res.end(why)) : page(res, errorStatus, `${title}: error`, `<h1>Sign-in failed</h1><p>${sayWhy ? why : 'Please try again later.'}</p>`);
  const handle = async (req, res) => {
    const url = new URL(req.url, `https://${req.headers.host}`);
    const cookies = cookiesOf(req);
    if (url.pathname === where) {
      const body = req.method === 'POST' ? await bodyOf(req) : null;
      const given = new URLSearchParams(body ?? url.search);
      const id = keepIn === 'memory' ? given.get('state') : cookies.desk_login;
      const kept = waiting.get(id);
      if (!kept) return fail(res, 'The sign-in session was not found (state cookie missing).');
      if (useState && !jarm && kept.state !== given.get('state')) return fail(res, `state mismatch, expected ${kept.state}, got: ${given.get('state')}`);
      waiting.delete(id);
      if (given.get('error') === 'login_required' && passiveFirst) return begin(req, res);
      let claims;
      try {
        const conf = await discovered();
        if (wait) await new Promise((done) => setTimeout(done, wait));
        const checks = { pkceCodeVerifier: pkce ? (breakVerifier ? client.randomPKCECodeVerifier() : kept.verifier) : undefined, expectedState: kept.state, expectedNonce: breakNonce ? client.randomNonce() : kept.nonce, idTokenExpected: true };
        const current = new URL(back); current.search = url.search;
        const input = body === null ? current : new Request(back, { method: 'POST', body, headers: { 'content-type': 'application/x-www-form-urlencoded' } });
        if (responseType === 'id_token') claims = await client.implicitAuthentication(conf, input, breakNonce ? client.randomNonce() : kept.nonce, { expectedState: kept.state });
        else claims = (await client.authorizationCodeGrant(conf, input, checks)).claims();
      } catch (error) {
        return fail(res, [error.error, error.error_description, error.code, error.message, error.cause?.message].filter(Boolean).join(': '));
      }
      const refused = accept(claims);
      if (refused && failTo) return redirect(res, `${failTo}?error=account`, {});
      if (refused) return page(res, 403, title, `<h1>No access</h1><p>${refused}</p>`);
      const key = oneCookie ? cookies[sessionName] : crypto.randomUUID();
      sessions.set(key, claims);
      const cookie = session && !oneCookie ? { 'set-cookie': [`${sessionName}=${key}; ${session}`, ...(keepIn === 'cookie' ? ['desk_login=; Max-Age=0; Path=/'] : [])] } : {};
      if (landing === 'page') return home(res, claims, title, cookie, lang);
      if (landing === 'script') return page(res, 200, title, '<p>One moment.</p><script>location.replace("/")</script>', cookie);
      return redirect(res, startAt, cookie);
    }
    if (failTo && url.pathname === failTo) return page(res, 200, title, `<div class="alert" role="alert">${failText}</div><p><a href="/login">Sign in with single sign-on</a></p>`);
    if (url.pathname === '/favicon.ico') { res.writeHead(204); return res.end(); }
    if (url.pathname === '/logout') {
      const conf = await discovered();
      return redirect(res, client.buildEndSessionUrl(conf, { client_id: clientId, post_logout_redirect_uri: `https://${host}/bye` }).href,
        { 'set-cookie': `${sessionName}=; Max-Age=0; Path=/` });
    }
    if (url.pathname === '/bye') return page(res, 200, title, '<h1>You are signed out</h1><p><a href="/login">Sign in</a></p>');
    const held = sessions.get(cookies[sessionName]);
    if (url.pathname === login) return begin(req, res, passiveFirst ? { prompt: 'none' } : {});
    if (url.pathname === '/again') return begin(req, res, { prompt: 'login' });
    if (held) return home(res, held, title, {}, lang);
    if (guest) return guest(res);
    if (startElsewhere && req.headers.host !== host) return begin(req, res);
    return begin(req, res, passiveFirst ? { prompt: 'none' } : {});
  };
  for (const one of [host, ...alsoAt]) serve(one, handle);
  return { sessions };
}

/** A page whose headings speak of failures, though the user is in. */
export function dashboard(res, claims, title, headers) {
  return page(res, 200, title, `<h1>Failed sign-ins this week</h1><p>3 of 812</p><p>${claims.email} <a href="/logout">Sign out</a></p>`, headers);
}

/** A page with a sign-in form that nobody sees, though the user is in. */
export function withModal(res, claims, title, headers) {
  return page(res, 200, title, `<h1>Departures</h1><p>${claims.name} <a href="/logout">Log out</a></p><div hidden id="modal"><form action="/local"><input name="u"><input type="password" name="p"></form></div>`, headers);
}

export function homePage(res, claims, title, headers, lang = 'en') {
  const [hello, out] = { en: ['Welcome', 'Sign out'], de: ['Willkommen', 'Abmelden'], bare: ['', ''] }[lang];
  if (lang === 'bare') return page(res, 200, title, '<main><h1>Departures today</h1><table><tr><td>07:40</td><td>Outer Skerry</td></tr></table></main>', headers);
  return page(res, 200, title, `<main><h1>${hello}, ${claims.email || claims.sub}</h1><p><a href="/logout" id="out">${out}</a></p></main>`, headers);
}
