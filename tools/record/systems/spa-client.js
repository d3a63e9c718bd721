import * as client from '/lib.js';
const app = document.getElementById('app');
const back = location.origin + settings.callback;
const say = (text) => { app.innerHTML = text; };
async function config() {
  const c = await client.discovery(new URL(settings.issuer), settings.clientId, { id_token_signed_response_alg: 'RS256' }, client.None());
  if (settings.fragment) client.useIdTokenResponseType(c);
  return c;
}
async function begin(more = {}) {
  const c = await config();
  const kept = { verifier: client.randomPKCECodeVerifier(), state: client.randomState(), nonce: client.randomNonce() };
  sessionStorage.setItem('login', JSON.stringify(kept));
  const asked = { redirect_uri: back, scope: settings.scope, state: kept.state, nonce: kept.nonce, ...more };
  if (settings.fragment) asked.response_type = 'id_token';
  else Object.assign(asked, { code_challenge: await client.calculatePKCECodeChallenge(kept.verifier), code_challenge_method: 'S256' });
  if (settings.resource) asked.resource = settings.resource;
  return client.buildAuthorizationUrl(c, asked).href;
}
async function finish(address) {
  const c = await config();
  const kept = JSON.parse(sessionStorage.getItem('login') || '{}');
  if (settings.fragment) return { claims: await client.implicitAuthentication(c, new URL(address), kept.nonce, { expectedState: kept.state }) };
  const told = new URL(address);
  if (settings.fault === 'late') await new Promise((done) => setTimeout(done, 2500));
  if (settings.fault === 'other-address') told.pathname += '/';
  if (settings.fault === 'nonce') kept.nonce = client.randomNonce();
  const verifier = settings.fault === 'verifier' ? client.randomPKCECodeVerifier() : kept.verifier;
  const redeem = () => client.authorizationCodeGrant(c, new URL(address), { pkceCodeVerifier: verifier, expectedState: kept.state, expectedNonce: kept.nonce, idTokenExpected: true });
  if (settings.fault === 'twice') { const first = await redeem(); await redeem(); return { claims: first.claims(), tokens: first }; }
  if (settings.fault === 'twice-unheeded') { const first = await redeem(); await redeem().catch(() => 0); return { claims: first.claims(), tokens: first }; }
  const tokens = await client.authorizationCodeGrant(c, told, { pkceCodeVerifier: verifier, expectedState: kept.state, expectedNonce: kept.nonce, idTokenExpected: true },
    settings.resource ? { resource: settings.resource } : undefined);
  return { claims: tokens.claims(), tokens };
}
async function signedIn({ claims, tokens }) {
  if (settings.backend) {
    await fetch('/api/session', { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify({ id_token: tokens.id_token }) });
    const me = await (await fetch('/api/me')).json();
    say(`<h1>Charts</h1><p>Signed in as <b id="who">${me.name || me.sub}</b></p><button id="out">Sign out</button>`);
  } else say(settings.show ? `<h1>Charts</h1><p>Signed in as <b id="who">${claims.email || claims.sub}</b></p><button id="out">Sign out</button>` : '<h1 id="who">Charts</h1>');
  if (settings.landing === 'home') history.replaceState(null, '', '/');
  if (settings.api) {
    if (settings.fault === 'stale') await new Promise((done) => setTimeout(done, 2600));
    let answer = await fetch(settings.api, { headers: { authorization: `Bearer ${settings.sendIdToken ? tokens.id_token : tokens.access_token}` } });
    if (settings.fault === 'stale' && answer.status === 401) {
      const fresh = await client.refreshTokenGrant(await config(), tokens.refresh_token, { resource: settings.resource });
      answer = await fetch(settings.api, { headers: { authorization: `Bearer ${fresh.access_token}` } });
    }
    app.insertAdjacentHTML('beforeend', answer.ok ? '<p id="api">3 charts</p>' : `<p id="api">The charts could not be loaded (${answer.status}).</p>`);
  }
  if (settings.refresh) {
    const c = await config();
    if (settings.fault === 'renewal') tokens.refresh_token = tokens.refresh_token.slice(0, -4) + 'AAAA';
    const again = await client.refreshTokenGrant(c, tokens.refresh_token);
    app.insertAdjacentHTML('beforeend', `<p id="again">renewed for ${again.claims()?.sub}</p>`);
  }
  if (settings.silent) {
    const frame = document.createElement('iframe');
    frame.src = await begin({ prompt: 'none' });
    addEventListener('message', async (event) => {
      if (event.data?.address) { try { await finish(event.data.address); app.insertAdjacentHTML('beforeend', '<p id="renewed">session renewed</p>'); } catch (error) { app.insertAdjacentHTML('beforeend', `<p id="renewed">could not renew: ${error.error || error.message}</p>`); } }
    });
    document.body.append(frame);
  }
}
try {
  if (location.pathname === settings.callback) {
    if (window.parent !== window) parent.postMessage({ address: location.href }, location.origin);
    else if (window.opener) { opener.postMessage({ address: location.href }, location.origin); close(); }
    else if (new URLSearchParams(location.search).get('error') === 'login_required' && settings.silentFirst) location.assign(await begin());
    else await signedIn(await finish(location.href));
  } else if (settings.popup) {
    say('<button id="in">Sign in</button>');
    addEventListener('message', async (event) => { if (event.data?.address) await signedIn(await finish(event.data.address)); });
    document.getElementById('in').onclick = async () => { const w = window.open('about:blank', 'login', 'width=500,height=600'); w.location = await begin(); };
  } else location.assign(await begin(settings.silentFirst ? { prompt: 'none' } : {}));
} catch (error) {
  console.error(error);
  say(`<h1>Charts</h1><p role="alert" id="bad">Sign-in failed: ${error.error || error.code || error.message}</p>`);
}
