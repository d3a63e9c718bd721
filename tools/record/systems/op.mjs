// An OpenID Connect provider on the library oidc-provider, with sign-in and consent pages of our own.
import Provider from 'oidc-provider';
import { bodyOf, page, serve } from '../world.mjs';

export const PEOPLE = {
  'm.tern': { email: 'm.tern@northmere.example', name: 'Mara Tern', groups: ['deck', 'grp-bridge'] },
  'a.fulmar': { email: 'a.fulmar@northmere.example', name: 'Aud Fulmar', groups: ['galley'] },
};

export function startOp({ host = 'login.skerry.example', keys, clients, consent = false, assigned = null, pkce = false,
  cors = true, cookieSite = 'none', formAction = null, claims = {}, tokenSeconds = 3600, languages = 'en', extra = {},
  staleSecret = null, otp = null, broker = null } = {}) {
  const issuer = `https://${host}`;
  const provider = new Provider(issuer, {
    clients: clients.map((one) => ({ token_endpoint_auth_method: 'client_secret_basic', ...one })),
    jwks: { keys },
    cookies: { keys: ['recording'], long: { sameSite: cookieSite, secure: true, signed: true }, short: { sameSite: cookieSite === 'strict' ? 'strict' : 'lax', secure: true, signed: true } },
    responseTypes: ['code', 'id_token', 'code id_token', 'id_token token', 'code token', 'code id_token token', 'none'],
    scopes: ['openid', 'profile', 'email', 'groups', 'offline_access', 'charts.read'],
    claims: { openid: ['sub'], profile: ['name'], email: ['email', 'email_verified'], groups: ['groups'] },
    conformIdTokenClaims: false,
    features: {
      devInteractions: { enabled: false }, userinfo: { enabled: true }, rpInitiatedLogout: {
        enabled: true,
        logoutSource(ctx, form) {
          ctx.body = `<!doctype html><html><head><title>Sign out</title></head><body><h1>Sign out of Skerry ID?</h1>${form}` +
            '<button type="submit" form="op.logoutForm" value="yes" name="logout" id="yes">Sign out</button></body></html>';
        },
        postLogoutSuccessSource(ctx) { ctx.body = '<!doctype html><html><head><title>Signed out</title></head><body><h1>You are signed out</h1></body></html>'; },
      },
      pushedAuthorizationRequests: { enabled: true }, introspection: { enabled: true }, jwtResponseModes: { enabled: true },
      requestObjects: { enabled: true }, encryption: { enabled: true },
      resourceIndicators: { enabled: true, defaultResource: () => undefined, useGrantedResource: () => true,
        getResourceServerInfo: (ctx, resource) => ({ scope: 'charts.read', audience: resource, accessTokenFormat: 'jwt', accessTokenTTL: tokenSeconds, jwt: { sign: { alg: 'RS256' } } }) },
    },
    pkce: { required: () => pkce },
    issueRefreshToken: async (ctx, client, code) => code.scopes.has('offline_access') || code.scopes.has('email'),
    clientBasedCORS: () => cors,
    ttl: { AccessToken: tokenSeconds, IdToken: 3600, Session: 86400, Grant: 86400, Interaction: 3600, RefreshToken: 86400 },
    interactions: { url: (ctx, interaction) => `/interaction/${interaction.uid}` },
    async findAccount(ctx, id) { return { accountId: id, claims: async () => ({ sub: id, email_verified: true, ...PEOPLE[id], ...claims }) }; },
    async loadExistingGrant(ctx) {
      const { client, session, provider: op } = ctx.oidc;
      const known = ctx.oidc.result?.consent?.grantId || session.grantIdFor(client.clientId);
      if (known) return op.Grant.find(known);
      if (consent) return undefined;
      const grant = new op.Grant({ clientId: client.clientId, accountId: session.accountId });
      grant.addOIDCScope('openid profile email groups offline_access charts.read');
      grant.addOIDCClaims(['email', 'name', 'groups', 'email_verified']);
      grant.addResourceScope('https://api.northmere.example', 'charts.read');
      await grant.save();
      return grant;
    },
    async renderError(ctx, out) {
      ctx.type = 'html';
      const words = Object.entries(out).map(([key, value]) => `<p><strong>${key}</strong>: ${value}</p>`).join('');
      ctx.body = `<!doctype html><html><head><title>Skerry ID</title></head><body><h1>Something went wrong</h1>${words}</body></html>`;
    },
    ...extra,
  });
  provider.on('server_error', (ctx, error) => console.error('op', error));
  const rest = provider.callback();
  serve(host, async (req, res) => {
    const [, uid, step] = /^\/interaction\/([^/?]+)(?:\/(\w+))?/.exec(req.url) || [];
    if (formAction) res.setHeader('content-security-policy', formAction);
    if (!uid) return rest(req, res);
    if (req.method === 'GET') {
      let details;
      try { details = await provider.interactionDetails(req, res); } catch { return page(res, 400, 'Skerry ID', '<h1>Please start again</h1><p>This sign-in is over, or cookies are switched off.</p>'); }
      if (details.prompt.name === 'consent') {
        return page(res, 200, 'Skerry ID: consent', `<h1>Allow ${details.params.client_id}?</h1><form method="post" action="/interaction/${uid}/consent">
          <button id="allow">Allow</button></form><form method="post" action="/interaction/${uid}/deny"><button id="deny">Deny</button></form>`);
      }
      if (broker) return broker(res, uid);
      return page(res, 200, languages === 'de' ? 'Anmelden – Skerry ID' : 'Sign in – Skerry ID', signIn(uid, details.params.login_hint));
    }
    const given = new URLSearchParams(await bodyOf(req));
    if (step === 'broker') return provider.interactionFinished(req, res, { login: { accountId: broker.who(given) } }, { mergeWithLastSubmission: false });
    if (step === 'consent') {
      const { grantId, params, session } = await provider.interactionDetails(req, res);
      const grant = grantId ? await provider.Grant.find(grantId) : new provider.Grant({ accountId: session.accountId, clientId: params.client_id });
      grant.addOIDCScope(params.scope);
      return provider.interactionFinished(req, res, { consent: { grantId: await grant.save() } }, { mergeWithLastSubmission: true });
    }
    if (step === 'deny') {
      return provider.interactionFinished(req, res, { error: 'access_denied', error_description: 'The user said no.' }, { mergeWithLastSubmission: false });
    }
    const name = given.get('username');
    if (!PEOPLE[name] || given.get('password') !== 'correct-horse') {
      return page(res, 200, 'Sign in – Skerry ID', `<p role="alert">Wrong name or password.</p>${signIn(uid)}`);
    }
    if (otp && given.get('otp') !== otp) return page(res, 200, 'Second factor – Skerry ID', second(uid, name, given.has('otp')));
    const { params } = await provider.interactionDetails(req, res);
    if (assigned && !(assigned[params.client_id] || []).includes(name)) {
      return page(res, 403, 'Skerry ID', `<h1>No access</h1><p>${name} is not assigned to the application ${params.client_id}. Ask your administrator to assign you.</p>`);
    }
    return provider.interactionFinished(req, res, { login: { accountId: name } }, { mergeWithLastSubmission: false });
  });
  return provider;
}

function second(uid, name, wrong) {
  return `<h1>Enter the code from your device</h1>${wrong ? '<p role="alert">That code is not right.</p>' : ''}<form method="post" action="/interaction/${uid}/login"><input type="hidden" name="username" value="${name}"><input type="hidden" name="password" value="correct-horse"><input name="otp" autocomplete="one-time-code"><button id="go">Verify</button></form>`;
}

function signIn(uid, hint = '') {
  return `<h1>Sign in</h1><form method="post" action="/interaction/${uid}/login"><input name="username" value="${hint || ''}" placeholder="name">
    <input name="password" type="password"><button id="go">Sign in</button></form>`;
}
