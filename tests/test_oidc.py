"""Given these messages and these settings of a client, the finding is this; row by row, and what holds of all rows."""

from __future__ import annotations

import base64
import json
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from kit import certificate, key, pem, private_pem
from laws import contradictions
from oidc_kit import (
    API,
    CHALLENGE,
    CLIENT,
    IAT,
    ISSUER,
    REDIRECT,
    answer,
    capture,
    claims,
    client_workspace,
    judge_texts,
    request,
    token,
    token_request,
    token_response,
)
from trace_lens.common import catalogue
from trace_lens.common.findings import SIGN_IN_STAGES, Severity, Stage
from trace_lens.demo.tokens import compact, encrypt, half, public_jwk, sign, signature
from trace_lens.oidc.jose import from_base64url, to_base64url
from trace_lens.workspace.snapshots import keep

LOGOUT = {"events": {"http://schemas.openid.net/event/backchannel-logout": {}}}
CODE = "SplxlOBeZQQYbYS6WxSbIA"
ACCOUNTS = "user,email,login,id,active\n40117,m.tern@northmere.example,m.tern,40117,yes\n"
EMAIL_RULE = '[account]\nfrom = "email"\nlist = "a.csv"\n'
LISTED = {"a.csv": "user\nm.tern@northmere.example\n"}
PARTNER = {
    "providers/skerry.toml": 'name = "Skerry"\nissuer = "https://sso.skerry-pilots.example"\nkey_set = "discovery/s.json"\n',
    "discovery/s.json": json.dumps({"keys": [public_jwk(key("skerry"), "skerry")]}),
}


def discovery(**changes: Any) -> dict[str, str]:
    """The provider's discovery document as a file."""
    made = {
        "issuer": ISSUER,
        "authorization_endpoint": f"{ISSUER}/authorize",
        "token_endpoint": f"{ISSUER}/token",
        "jwks_uri": f"{ISSUER}/keys",
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256"],
        **changes,
    }
    return {"discovery/id.json": json.dumps({name: value for name, value in made.items() if value is not None})}


DISCOVERED = 'discovery = "discovery/id.json"'


def logout(**changes: Any) -> str:
    """A logout token that works."""
    made = {
        "iss": ISSUER,
        "aud": CLIENT,
        "iat": IAT,
        "exp": IAT + 120,
        "jti": "j-1",
        "sub": "40117",
        "sid": "s-9",
        **LOGOUT,
        **changes,
    }
    kept = {name: value for name, value in made.items() if value is not None}
    return sign(kept, key("oidc"), kid="oidc", typ="logout+jwt")


def unsigned(alg: str) -> str:
    """A token without a signature that names its algorithm so."""
    return f"{compact({'alg': alg, 'typ': 'JWT'})}.{compact(claims())}."


def altered(text: str) -> str:
    """The payload changed after signing."""
    header, _, signature = text.split(".")
    return f"{header}.{compact(claims(sub='1'))}.{signature}"


def with_payload(payload: str) -> str:
    """A signed token over a payload as it is written."""
    octets = f"{compact({'alg': 'RS256', 'kid': 'oidc'})}.{to_base64url(payload.encode())}"
    return f"{octets}.{to_base64url(signature(octets.encode(), key('oidc'), 'RS256'))}"


CURVE_KEY = {
    "kty": "EC",
    "crv": "P-256",
    "x": "weNJy2HscCSM6AEDTDg04biOvhFhyyWvOHQfeF_PxMQ",
    "y": "e8lnCO-AlStT-NJVX-crhB7QRYhiix03illJOVAOyck",
    "d": "VEmDZpDXXK8p8N0Cndsxs924q6nS1RXFASRl6BfUqdw",
}
"""Bob's key of RFC 7518, Appendix C."""


def with_certificate(
    signer: str, certified: str | None = None, begins: str = "2025-01-01", ends: str = "2027-01-01"
) -> dict[str, Any]:
    """A public key with the certificate of it, or of another key, beside it."""
    der = certificate(certified or signer, begins, ends).public_bytes(serialization.Encoding.DER)
    return {**public_jwk(key(signer), signer), "x5c": [base64.b64encode(der).decode()]}


def sealed_to_curve(text: str) -> str:
    """A token sealed with the key that Alice and Bob of RFC 7518, Appendix C, agree on."""
    epk = {
        "kty": "EC",
        "crv": "P-256",
        "x": "gI0GAILBdu7T53akrFmMyGcsF3n5dO7MmwNBHKW5SV0",
        "y": "SLW_xSffzlPWrHEVI30DHM_4egVwt3NQqeUD7nMFpps",
    }
    protected = compact({"alg": "ECDH-ES", "enc": "A128GCM", "apu": "QWxpY2U", "apv": "Qm9i", "epk": epk})
    sealed = AESGCM(from_base64url("VqqN6vgjbSBcIijNcacQGg")[0]).encrypt(bytes(12), text.encode(), protected.encode())
    return ".".join((protected, "", to_base64url(bytes(12)), to_base64url(sealed[:-16]), to_base64url(sealed[-16:])))


@dataclass(frozen=True)
class Row:
    """One row: messages (each a source), settings, and what must come of them."""

    name: str
    texts: tuple[str, ...]
    first: str | None = None
    codes: dict[str, str] = field(default_factory=dict)
    because: dict[str, str] = field(default_factory=dict)
    absent: tuple[str, ...] = ()
    outcome: str | None = None
    at: datetime | None = None
    value: str | None = None
    side: str | None = None
    settings: dict[str, Any] = field(default_factory=dict)
    app: str | None = None


def row(name: str, text: str | tuple[str, ...], first: str | None = None, **more: Any) -> Row:
    """A row; what is no field of it is a setting of the workspace."""
    own = {one: more.pop(one) for one in Row.__dataclass_fields__ if one in more}
    return Row(name, (text,) if isinstance(text, str) else text, first, settings=more, **own)


HOUR_LATER = datetime.fromtimestamp(IAT + 3600 + 181, UTC)
GOOD = capture(request(), answer(), token_request(), token_response())
ESSENTIAL = '{"id_token": {"%s": {"essential": true, "values": ["%s"]}}}'
REFUSED = '{"error": "%s", "error_description": "%s"}'
AT_JWT = {"typ": "at+jwt"}

ROWS = [
    # --- what works
    row("a token alone", token()),
    row("the whole exchange", GOOD),
    row("several sources of one attempt", (request(), answer(), token_request(), token_response())),
    row("an elliptic curve", token("ES256", "ec", "ec-256"), keys=[public_jwk(key("ec", "ec-256"), "ec")]),
    row("PSS", token("PS384")),
    row(
        "Ed25519 by its new name",
        token("Ed25519", "ed", "ed"),
        keys=[public_jwk(key("ed", "ed"), "ed")],
        application='token_algorithm = "EdDSA"',
    ),
    row(
        "a broken key among good ones",
        token(),
        keys=[{"kty": "EC", "crv": "P-9", "kid": "x"}, public_jwk(key("oidc"), "oidc")],
    ),
    row(
        "key found by thumbprint",
        token(header={"kid": "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"}),
        "key-id-unknown",
    ),
    row(
        "a silent round before",
        capture(
            request(prompt="none", state="s-0"),
            answer(code=None, state="s-0", error="login_required"),
            request(),
            answer(),
            token_request(),
            token_response(),
        ),
    ),
    row("just before the end, with skew", token(), at=datetime.fromtimestamp(IAT + 3600 + 179, UTC)),
    row(
        "a loopback redirect at another port",
        capture(
            request(redirect_uri="http://127.0.0.1:51004/cb"),
            "http://127.0.0.1:51004/cb?code=SplxlOBeZQQYbYS6WxSbIA&state=s-1",
        ),
        outcome="inconclusive",
        absent=("redirect-uri-mismatch", "insecure-transport"),
        provider_setup="",
        files={
            "apps/berth-planner.toml": 'provider = "northmere-id"\nprotocol = "oidc"\n[application]\nclient_id = "berth-planner-web"\nredirect_uris = ["http://127.0.0.1/cb"]\n'
        },
    ),
    row(
        "the claim from userinfo",
        capture(token_response(id_token=token(email=None)), '{"sub": "40117", "email": "m.tern@northmere.example"}'),
        more='[[claims]]\nname = "email"\n',
        absent=("claim-missing",),
    ),
    row(
        "a nested token",
        encrypt(token(), key("client").public_key()),
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
        app="berth-planner",
    ),
    row(
        "an access token for the interface",
        token(aud=API, header=AT_JWT, nonce=None),
        application=f'api_audience = "{API}"',
    ),
    row(
        "an access token with the scopes that the interface demands",
        token(aud=API, header=AT_JWT, nonce=None, scope="berths.read berths.write"),
        application=f'api_audience = "{API}"\napi_scopes = ["berths.read"]',
        absent=("scope-not-granted",),
    ),
    row(
        "an access token without a scope that the interface demands",
        token(aud=API, header=AT_JWT, nonce=None, scope="berths.read"),
        "scope-not-granted",
        application=f'api_audience = "{API}"\napi_scopes = ["berths.read", "berths.write"]',
        value="berths.write",
    ),
    # --- readable
    row("payload cut", token().rpartition(".")[0][:-30], "capture-truncated"),
    row("signature cut", token()[:-100], "capture-truncated", because={"signature-value-invalid": "capture-truncated"}),
    row(
        "quoted and wrapped",
        '"' + "\n".join(token()[i : i + 64] for i in range(0, 2000, 64)) + '"',
        codes={"repaired-encoding": "note"},
    ),
    row(
        "payload no JSON",
        f"{compact({'alg': 'RS256', 'kid': 'oidc'})}.{to_base64url(b'hello there, this is text')}.{'A' * 342}",
        "malformed-message",
    ),
    row("exp missing", token(exp=None), "malformed-message"),
    row("exp as text", token(exp=str(IAT + 3600)), "malformed-message"),
    row("iat as text", token(iat=str(IAT)), codes={"malformed-message": "risk"}),
    row(
        "exp in milliseconds",
        token(exp=(IAT + 3600) * 1000),
        codes={"malformed-message": "risk"},
        absent=("validity-too-long",),
    ),
    row("exp nonsense", token(exp="soon"), "malformed-message"),
    row("a name twice", with_payload(json.dumps(claims())[:-1] + ', "sub": "2"}'), codes={"malformed-message": "risk"}),
    row("a number too large", token(employee=2**53 + 1), codes={"malformed-message": "risk"}),
    row("a parameter twice", answer() + "&state=s-2", codes={"malformed-message": "risk"}, outcome="inconclusive"),
    row(
        "encrypted, no key",
        encrypt(token(), key("client").public_key()),
        None,
        codes={"encrypted-no-key": "risk"},
        outcome="inconclusive",
        app="berth-planner",
    ),
    row(
        "encrypted to another",
        encrypt(token(), key("other").public_key()),
        "encrypted-to-other-key",
        app="berth-planner",
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
    ),
    row(
        "ciphertext altered",
        encrypt(token(), key("client").public_key())[:-6] + "AAAAAA",
        "decryption-failed",
        app="berth-planner",
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
    ),
    row("zip", encrypt(token(), key("client").public_key(), zip="DEF"), "encryption-form-refused", app="berth-planner"),
    row(
        "a vast count",
        encrypt(token(), key("client").public_key(), alg="PBES2-HS256+A128KW", p2c=10**9, p2s="AA"),
        "encryption-form-refused",
        app="berth-planner",
    ),
    row(
        "RSA 1.5",
        encrypt(token(), key("client").public_key(), alg="RSA1_5"),
        codes={"weak-encryption": "risk", "encrypted-no-key": "risk"},
        outcome="inconclusive",
        app="berth-planner",
    ),
    row(
        "encrypted, not signed",
        encrypt(json.dumps(claims()), key("client").public_key()),
        "not-signed",
        app="berth-planner",
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
    ),
    # --- answered
    row(
        "access denied",
        capture(request(), answer(code=None, error="access_denied")),
        "provider-refused",
        side="provider",
    ),
    row("unknown scope", capture(request(), answer(code=None, error="invalid_scope")), "request-rejected"),
    row("consent required", capture(request(), answer(code=None, error="consent_required")), "consent-missing"),
    row(
        "denied without consent",
        capture(request(), answer(code=None, error="access_denied")),
        "consent-missing",
        provider_setup='consent = "none"',
    ),
    row(
        "invalid client",
        capture(request(), answer(), token_request(), REFUSED % ("invalid_client", "x")),
        "token-request-refused",
    ),
    row(
        "the secret had ended",
        capture(request(), answer(), token_request(), REFUSED % ("invalid_client", "x")),
        "client-secret-expired",
        application="secret_expires = 2025-11-13",
        because={"token-request-refused": "client-secret-expired"},
        at=datetime.fromtimestamp(IAT, UTC),
    ),
    row(
        "the secret had ended, unnoticed",
        token(),
        application="secret_expires = 2025-11-13",
        codes={"client-secret-expired": "risk"},
    ),
    row(
        "the secret ends soon",
        token(),
        application="secret_expires = 2025-12-01",
        codes={"client-secret-expiring": "risk"},
    ),
    row(
        "no ID token",
        capture(request(scope="email profile"), answer(), token_request(), token_response(id_token=None)),
        "token-missing",
        value="openid email profile",
        side="application",
    ),
    # --- delivered
    row(
        "another redirect URI",
        capture(
            request(redirect_uri=REDIRECT.replace("example/", "example:8443/")),
            answer(code=None, error="invalid_request"),
        ),
        "redirect-uri-mismatch",
        because={"request-rejected": "redirect-uri-mismatch"},
        side="application",
        value=REDIRECT,
    ),
    row(
        "not registered yet",
        capture(request(redirect_uri=REDIRECT + "2"), answer(code=None, error="invalid_request")),
        "redirect-uri-mismatch",
        application=f'sign_in_url = "{REDIRECT}"',
        side="application",
    ),
    row(
        "the token request differs",
        capture(request(), answer(), token_request(redirect_uri=REDIRECT + "/"), REFUSED % ("invalid_grant", "")),
        "redirect-uri-mismatch",
        because={"token-request-refused": "redirect-uri-mismatch"},
        side="application",
        value=REDIRECT,
    ),
    row("in the fragment", capture(request(response_mode="form_post"), answer("#")), "wrong-binding"),
    row("another state", capture(request(), answer(state="s-2")), "state-mismatch"),
    row("state lost", capture(request(), answer(state=None)), "state-mismatch"),
    row("no state", request(state=None), codes={"state-missing": "risk"}, outcome="inconclusive"),
    row("another nonce", capture(request(), token(nonce="n-2")), "nonce-mismatch"),
    row(
        "nonce lost",
        capture(request(), answer(), token_request(), token_response(id_token=token(nonce=None))),
        "nonce-mismatch",
    ),
    row(
        "another verifier",
        capture(request(), answer(), token_request(code_verifier="x" * 43), REFUSED % ("invalid_grant", "")),
        "code-verifier-mismatch",
        because={"token-request-refused": "code-verifier-mismatch"},
    ),
    row(
        "no verifier",
        capture(request(), answer(), token_request(code_verifier=None), REFUSED % ("invalid_grant", "")),
        "code-verifier-mismatch",
    ),
    row(
        "PKCE not sent",
        request(code_challenge=None, code_challenge_method=None),
        codes={"code-challenge-missing": "risk"},
        application="requires_pkce = true",
        outcome="inconclusive",
    ),
    row(
        "PKCE demanded",
        capture(
            request(code_challenge=None, code_challenge_method=None),
            answer(code=None, error="invalid_request", error_description="code_challenge required"),
        ),
        "code-challenge-missing",
        because={"request-rejected": "code-challenge-missing"},
    ),
    row(
        "a verifier for nothing",
        capture(request(code_challenge=None, code_challenge_method=None), token_request()),
        codes={"code-challenge-missing": "risk"},
        outcome="inconclusive",
    ),
    row(
        "plain",
        request(code_challenge_method="plain"),
        codes={"code-challenge-missing": "risk"},
        application="requires_pkce = true",
        outcome="inconclusive",
    ),
    row("another issuer answers", capture(request(), answer(iss="https://evil.example")), "response-issuer-mismatch"),
    row(
        "iss promised, not sent",
        capture(request(), answer()),
        codes={"response-issuer-mismatch": "risk"},
        provider=DISCOVERED,
        outcome="inconclusive",
        files=discovery(authorization_response_iss_parameter_supported=True),
    ),
    row(
        "code used twice",
        capture(
            request(), answer(), token_request(), token_response(), token_request(), REFUSED % ("invalid_grant", "")
        ),
        "code-reused",
        because={"token-request-refused": "code-reused"},
    ),
    row(
        "code too old",
        capture(request(), answer(), token_request(), REFUSED % ("invalid_grant", "The code has expired")),
        "code-too-old",
        because={"token-request-refused": "code-too-old"},
    ),
    row(
        "the provider says that the code was used",
        capture(request(), answer(), token_request(), REFUSED % ("invalid_grant", "Code already used")),
        "code-reused",
        because={"token-request-refused": "code-reused"},
    ),
    row(
        "the provider says that the verifier is wrong",
        capture(token_request(), REFUSED % ("invalid_grant", "PKCE verification failed")),
        "code-verifier-mismatch",
        because={"token-request-refused": "code-verifier-mismatch"},
    ),
    row(
        "the provider says that the redirect URI is another",
        capture(token_request(), REFUSED % ("invalid_grant", "redirect_uri does not match")),
        "redirect-uri-mismatch",
        because={"token-request-refused": "redirect-uri-mismatch"},
    ),
    row(
        "the provider says that the secret has ended",
        capture(request(), answer(), token_request(), REFUSED % ("invalid_client", "The client secret has expired")),
        "client-secret-expired",
        because={"token-request-refused": "client-secret-expired"},
    ),
    row(
        "another client_id",
        capture(request(client_id="berth-planner"), answer(code=None, error="unauthorized_client")),
        "identifier-in-request-unknown",
        value=CLIENT,
    ),
    row(
        "signed requests demanded",
        request(),
        codes={"request-unsigned": "risk"},
        provider=DISCOVERED,
        outcome="inconclusive",
        files=discovery(require_signed_request_object=True),
    ),
    row(
        "http",
        capture(request(), answer().replace("https", "http")),
        "redirect-uri-mismatch",
        codes={"insecure-transport": "risk"},
    ),
    row(
        "a secret in the address",
        f"{ISSUER}/token?{token_request(client_secret='hunter2hunter2')}",
        codes={"credentials-in-clear": "risk"},
        outcome="inconclusive",
    ),
    # --- authentic
    *(row(f"alg {alg!r}", unsigned(alg), "algorithm-none") for alg in ("none", "None", "NONE", "nOnE")),
    row("symmetric", sign(claims(), b"x" * 32, "HS256"), "algorithm-confusion"),
    row(
        "symmetric, as set",
        sign(claims(), b"x" * 32, "HS256"),
        application='token_algorithm = "HS256"',
        outcome="inconclusive",
    ),
    row(
        "another algorithm", token("RS512"), "algorithm-unexpected", application='token_algorithm = ["RS256", "PS256"]'
    ),
    row("no algorithm at all", token("RS256", header={"alg": "XX99"}), "algorithm-unexpected"),
    row("SHA-1", token("RS1"), codes={"weak-signature": "risk"}),
    row("no alg and no signature", f"{compact({'typ': 'JWT'})}.{compact(claims())}.", "algorithm-none"),
    row(
        "the certificate of the key had ended",
        token(),
        codes={"certificate-expired": "risk"},
        keys=[with_certificate("oidc", ends="2025-11-01")],
    ),
    row(
        "it had not begun",
        token(),
        codes={"certificate-not-yet-valid": "risk"},
        keys=[with_certificate("oidc", begins="2025-12-01")],
    ),
    row(
        "it ends soon",
        token(),
        codes={"certificate-expiring": "risk"},
        keys=[with_certificate("oidc", ends="2025-12-01")],
    ),
    row(
        "refused for it",
        token(),
        "certificate-expired",
        keys=[with_certificate("oidc", ends="2025-11-01")],
        application="checks_certificate_dates = true",
    ),
    row(
        "the certificate of another key",
        token(),
        codes={"certificate-damaged": "risk"},
        keys=[with_certificate("oidc", "old")],
    ),
    row(
        "a key that is only its certificate",
        token(),
        keys=[{"kty": "RSA", "kid": "oidc", "x5c": with_certificate("oidc")["x5c"]}],
    ),
    row(
        "a small key",
        token(signer="small", kind="rsa-1024"),
        codes={"weak-key": "risk"},
        keys=[public_jwk(key("small", "rsa-1024"), "small")],
    ),
    row("altered", altered(token()), "signature-value-invalid", side="provider"),
    row("a key that is not known", token(signer="other"), "key-id-unknown"),
    row(
        "the retired key",
        token(signer="old"),
        "signed-by-other-known-key",
        because={"key-id-unknown": "signed-by-other-known-key"},
        files={"discovery/old.json": json.dumps({"keys": [public_jwk(key("old"), "old")]})},
    ),
    row(
        "a certificate on file",
        token(signer="old"),
        "signed-by-other-known-key",
        files={"certs/old.pem": pem(certificate("old"))},
    ),
    row(
        "its own key",
        token(signer="own", header={"jwk": public_jwk(key("own"), "own")}),
        "signed-by-untrusted-key",
        codes={"embedded-key-ignored": "risk"},
    ),
    row(
        "an address for a key",
        token(header={"jku": "https://evil.example/keys"}),
        codes={"embedded-key-ignored": "risk"},
    ),
    row("crit", token(header={"crit": ["exp"]}), "critical-header-unknown"),
    row("crit null", token(header={"crit": None}), "critical-header-unknown"),
    row("crit empty", token(header={"crit": []}), "critical-header-unknown"),
    row("b64 without crit", token(header={"b64": False}), "critical-header-unknown"),
    row(
        "no key id",
        token(header={"kid": None}),
        codes={"key-id-missing": "risk"},
        keys=[public_jwk(key("oidc"), "oidc"), public_jwk(key("next"), "next")],
    ),
    row(
        "another key's id",
        token(header={"kid": "next"}),
        "signature-value-invalid",
        keys=[public_jwk(key("oidc"), "oidc"), public_jwk(key("next"), "next")],
    ),
    row("no key on record", token(), codes={"no-trusted-key": "risk"}, outcome="inconclusive", keys=[]),
    row("at_hash", token_response(id_token=token(at_hash=half("other"))), "token-hash-mismatch"),
    row("at_hash that holds", token_response(id_token=token(at_hash=half("2YotnFZFEjr1zCsicMWpAA")))),
    row("c_hash", capture(answer("#", id_token=token(c_hash=half("other")))), "token-hash-mismatch"),
    row("s_hash", capture(answer("#", id_token=token(s_hash=half("other")))), "token-hash-mismatch"),
    # --- intended
    row("another issuer", token(iss=ISSUER + "/"), "issuer-mismatch"),
    row(
        "the partner answers",
        token(iss="https://sso.skerry-pilots.example", signer="skerry"),
        "issuer-mismatch",
        files=PARTNER,
        because={"signed-by-other-known-key": "issuer-mismatch", "key-id-unknown": "issuer-mismatch"},
    ),
    row("nobody known", token(iss="https://nobody.example", aud="nobody"), "issuer-unknown"),
    row("another audience", token(aud="berth-planner-app"), "audience-mismatch", value=CLIENT),
    row("no audience", token(aud=None), "audience-missing", app="berth-planner", value="berth-planner-web"),
    row(
        "shared",
        token(),
        codes={"audience-shared": "risk"},
        app="berth-planner",
        files={
            "apps/other.toml": 'protocol = "oidc"\nprovider = "northmere-id"\n[application]\nclient_id = "berth-planner-web"\n'
        },
    ),
    row("another party", token(azp="other"), "authorized-party-mismatch"),
    row("several audiences", token(aud=[CLIENT, API]), "authorized-party-mismatch"),
    row("several audiences and a party", token(aud=[CLIENT, API], azp=CLIENT)),
    row(
        "an access token",
        token(aud=API, header=AT_JWT),
        "wrong-token-kind",
        because={"audience-mismatch": "wrong-token-kind"},
        more='[[claims]]\nname = "role"\n',
    ),
    row("an access token as id_token", token_response(id_token=token(aud=API, header=AT_JWT)), "wrong-token-kind"),
    row(
        "discovery of another",
        capture(token(), json.dumps({"issuer": "https://other.example", "jwks_uri": "https://other.example/k"})),
        "discovery-issuer-mismatch",
    ),
    row("application unknown", token(aud="nobody", iss=ISSUER), "audience-mismatch"),
    row(
        "two fit",
        token(aud="nobody"),
        codes={"application-unknown": "risk"},
        outcome="inconclusive",
        files={
            "apps/other.toml": 'protocol = "oidc"\nprovider = "northmere-id"\n[application]\nclient_id = "lost-property-desk"\n'
        },
    ),
    # --- current
    row("expired", token(), "expired", at=HOUR_LATER),
    row("not yet", token(nbf=IAT + 600), "not-yet-valid", at=datetime.fromtimestamp(IAT, UTC)),
    row("from the future", token(), codes={"issued-in-future": "risk"}, at=datetime.fromtimestamp(IAT - 181, UTC)),
    row("no window", token(exp=IAT), "window-empty"),
    row("too long", token(exp=IAT + 90000), codes={"validity-too-long": "risk"}),
    row("no auth_time", token(auth_time=None), "authentication-time-missing", application="max_age = 3600"),
    row("too old, as set", token(auth_time=IAT - 4000), "authentication-too-old", application='max_age = "1h"'),
    row("too old, as asked", capture(request(max_age="60"), token(auth_time=IAT - 4000)), "authentication-too-old"),
    row(
        "prompt=login ignored", capture(request(prompt="login"), token(auth_time=IAT - 4000)), "authentication-too-old"
    ),
    row("single sign-on", token(auth_time=IAT - 4000), codes={"earlier-session-used": "note"}),
    row(
        "still good",
        token(iat=IAT + 31_600_000, exp=IAT + 33_000_000, auth_time=None),
        codes={"still-valid": "note", "validity-too-long": "risk"},
    ),
    row(
        "before a change",
        token(aud="x"),
        "audience-mismatch",
        codes={"issued-before-change": "risk"},
        files={"changes.csv": "at,app,what\n2025-11-21T08:00:00Z,berth-planner,client id set\n"},
    ),
    # --- identified
    row("no subject", token(sub=None), "subject-missing"),
    row("no subject, another rule", token(sub=None), "subject-missing", more=EMAIL_RULE, files=LISTED),
    row("nobody", token(sub="7"), "account-not-found", more='[account]\nlist = "a.csv"\n', files={"a.csv": ACCOUNTS}),
    row("found by e-mail", token(), more=EMAIL_RULE, files=LISTED),
    row(
        "e-mail by another case",
        token(email="M.Tern@Northmere.example"),
        "account-near-match",
        more=EMAIL_RULE,
        files=LISTED,
    ),
    row(
        "not vouched for",
        token(email_verified=False),
        codes={"email-unverified": "risk"},
        more=EMAIL_RULE,
        files=LISTED,
    ),
    row(
        "userinfo of another",
        capture(token_response(), '{"sub": "2", "email": "x@northmere.example"}'),
        "subject-differs",
    ),
    row("somebody else", capture(request(login_hint="a.fulmar@northmere.example"), token()), "other-user-answered"),
    row(
        "the one asked for",
        capture(request(login_hint="M.Tern@northmere.example"), token()),
        absent=("other-user-answered",),
    ),
    row(
        "another session",
        capture(request(id_token_hint=token(sub="2")), answer(), token_request(), token_response()),
        "other-user-answered",
    ),
    row("pairwise", token(), codes={"subject-unstable": "risk"}, application='subject_type = "pairwise"'),
    # --- entitled
    row(
        "scope not asked",
        token(email=None),
        "scope-not-granted",
        because={"claim-missing": "scope-not-granted"},
        more='[[claims]]\nname = "email"\n',
        value="openid email",
        files={
            "apps/berth-planner.toml": 'provider = "northmere-id"\nprotocol = "oidc"\n[application]\nclient_id = "berth-planner-web"\nscopes = ["openid"]\n[[claims]]\nname = "email"\n'
        },
    ),
    row(
        "scope not asked in the request",
        capture(request(scope="openid"), answer(), token_request(), token_response(id_token=token(email=None))),
        "scope-not-granted",
        more=EMAIL_RULE,
        files=LISTED,
        because={"subject-missing": "scope-not-granted"},
        side="application",
    ),
    row(
        "scope not granted",
        token_response(id_token=token(email=None), scope="openid profile"),
        "scope-not-granted",
        more='[[claims]]\nname = "email"\n',
        side="provider",
    ),
    row("claim missing, scope there", token(email=None), "claim-missing", more='[[claims]]\nname = "email"\n'),
    row(
        "groups elsewhere",
        token(groups=None, _claim_names={"groups": "src1"}, _claim_sources={"src1": {"endpoint": "https://x.example"}}),
        "groups-left-out",
        because={"claim-missing": "groups-left-out"},
        more='[[claims]]\nname = "groups"\n',
    ),
    row("an address elsewhere", token(_claim_names={"address": "src1"}), absent=("groups-left-out",)),
    row(
        "the provider's own marker",
        token(groups=None, groups_elsewhere=True),
        "groups-left-out",
        provider='left_out_markers = ["groups_elsewhere"]',
        more='[[claims]]\nname = "groups"\n',
    ),
    row(
        "near the limit of an address",
        answer("#", code=None, id_token=token(groups=[f"g{i}" for i in range(19)], nonce=None)),
        codes={"groups-near-limit": "risk"},
        provider="most_groups = { token = 250, url = 20 }",
        more='[[claims]]\nname = "groups"\n',
    ),
    row("too weak", token(acr="1"), "assurance-too-low", application='acr_values = ["2", "3"]'),
    row("no acr", capture(request(acr_values="2"), token()), "assurance-too-low"),
    row(
        "acr as the claims parameter demands",
        capture(request(claims=ESSENTIAL % ("acr", "2")), token(acr="1")),
        "assurance-too-low",
        value="2",
    ),
    row("acr wished for only", capture(request(claims='{"id_token": {"acr": {"values": ["2"]}}}'), token(acr="1"))),
    row(
        "amr demanded",
        capture(request(claims=ESSENTIAL % ("amr", "otp")), token(amr=["pwd"])),
        "assurance-too-low",
        value="otp",
    ),
    row(
        "amr as demanded",
        capture(request(claims=ESSENTIAL % ("amr", "otp")), token(amr=["pwd", "otp"])),
        absent=("assurance-too-low",),
    ),
    row(
        "an essential claim left out",
        capture(request(claims='{"userinfo": {"phone_number": {"essential": true}}}'), token()),
        codes={"claim-missing": "risk"},
    ),
    row("claims no JSON", capture(request(claims="email"), token()), codes={"malformed-message": "risk"}),
    row("strong enough", token(acr="3"), application='acr_values = ["2", "3"]'),
    row("too large", token(picture="x" * 4000), codes={"token-too-large": "risk"}),
    row(
        "not assigned",
        token(),
        "not-assigned",
        files={"b.csv": "user\nsomebody\n"},
        more="",
        provider_setup="",
        app="berth-planner",
    ),
    # --- admitted
    row(
        "renewal refused",
        capture(
            token_response(),
            "grant_type=refresh_token&refresh_token=tGzv3JOkF0XG5Qx2TlKWIA&client_id=berth-planner-web",
            REFUSED % ("invalid_grant", ""),
        ),
        "refresh-refused",
    ),
    row("a short life", token_response(refresh_token=None, expires_in=300), codes={"session-ends-early": "risk"}),
    # --- sign-outs
    row("a logout token", logout(), outcome="sound"),
    row("a logout token of nobody", logout(sub=None, sid=None), "malformed-message"),
    row("a logout token with a nonce", logout(nonce="n"), "malformed-message"),
    row(
        "a logout token, unsigned",
        f"{compact({'alg': 'none', 'typ': 'logout+jwt'})}.{logout().split('.')[1]}.",
        "algorithm-none",
    ),
    row(
        "a logout token, altered",
        f"{logout().rpartition('.')[0]}.{token().rpartition('.')[2]}",
        "signature-value-invalid",
    ),
    row("a logout token for another", logout(aud="other"), "audience-mismatch", app="berth-planner"),
    row("a logout token from another", logout(iss=ISSUER + "/x"), "issuer-mismatch", app="berth-planner"),
    row("a logout token, late", logout(), "expired", at=HOUR_LATER),
    row(
        "another session ended",
        capture(token(sid="s-1"), logout(sub=None, sid="s-2")),
        codes={"sign-out-unmatched": "risk"},
    ),
    row(
        "signing out without a hint",
        f"{ISSUER}/logout?post_logout_redirect_uri={REDIRECT}",
        codes={"sign-out-unmatched": "risk"},
        app="berth-planner",
    ),
    # --- addresses
    row(
        "an endpoint made up",
        capture(request().replace("/authorize", "/oauth2/authorize"), answer()),
        codes={"endpoint-guessed": "risk"},
        provider=DISCOVERED,
        files=discovery(),
        outcome="inconclusive",
    ),
    # --- other forms
    row(
        "encrypted, and nobody said whose",
        encrypt(token(), key("client").public_key()),
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
    ),
    row(
        "encrypted to another, and nobody said whose",
        encrypt(token(), key("other").public_key()),
        "encrypted-to-other-key",
        files={"keys/c.key": private_pem(key("client"))},
        application='decryption_key = "keys/c.key"',
    ),
    row(
        "signed by another algorithm than named",
        f"{sign(claims(), key('oidc'), 'RS256', kid='oidc').rpartition('.')[0]}."
        + to_base64url(
            signature(
                sign(claims(), key("oidc"), "RS256", kid="oidc").rpartition(".")[0].encode(), key("oidc"), "PS256"
            )
        ),
        "signature-value-invalid",
    ),
    row(
        "JWS in JSON",
        json.dumps(dict(zip(("protected", "payload", "signature"), token().split("."), strict=True))),
        outcome="sound",
    ),
    row(
        "a key of the elliptic curve as a JSON Web Key",
        sealed_to_curve(token()),
        app="berth-planner",
        files={"keys/c.json": json.dumps(CURVE_KEY)},
        application='decryption_key = "keys/c.json"',
    ),
    row(
        "userinfo, signed",
        capture(
            token_response(id_token=token(email=None)),
            sign({"iss": ISSUER, "sub": "40117", "email": "m.tern@northmere.example"}, key("oidc"), kid="oidc"),
        ),
        more='[[claims]]\nname = "email"\n',
        absent=("claim-missing", "subject-differs"),
    ),
    row(
        "a request object",
        capture(
            f"{ISSUER}/authorize?client_id={CLIENT}&request="
            + sign(
                {
                    "client_id": CLIENT,
                    "response_type": "code",
                    "redirect_uri": REDIRECT,
                    "state": "s-1",
                    "nonce": "n-2",
                    "scope": "openid",
                },
                key("client"),
            ),
            answer(),
            token_response(),
        ),
        "nonce-mismatch",
    ),
    row(
        "certificates instead of a key set",
        token(signer="old", header={"kid": None}),
        files={
            "certs/old.pem": pem(certificate("old")),
            "providers/northmere-id.toml": f'issuer = "{ISSUER}"\ncertificates = ["certs/old.pem"]\n',
        },
    ),
    row(
        "discovery alone tells the issuer",
        token(),
        files={
            **discovery(),
            "providers/northmere-id.toml": 'discovery = "discovery/id.json"\nkey_set = "discovery/keys.json"\n',
        },
    ),
    row(
        "a risk that was agreed to",
        token(),
        application="secret_expires = 2025-11-13",
        more='[[accepted]]\ncode = "client-secret-expired"\nreason = "rotated on Friday"\n',
        codes={"client-secret-expired": "risk"},
    ),
    row("the access token is an ID token", token_response(access_token=token(nonce="n-5")), "wrong-token-kind"),
    row("an unknown error", capture(request(), answer(code=None, error="N-2207")), "provider-refused"),
    row(
        "an error at the provider's own page",
        capture(request(), f"{ISSUER}/error?error=server_error&state=s-1"),
        "provider-refused",
        absent=("redirect-uri-mismatch",),
    ),
    row(
        "renewed for somebody else",
        capture(
            token_response(),
            "grant_type=refresh_token&refresh_token=tGzv3JOkF0XG5Qx2TlKWIA&client_id=berth-planner-web",
            token_response(id_token=token(sub="2"), refresh_token="another-refresh-token"),
        ),
        "subject-differs",
        codes={"refresh-refused": "break"},
    ),
    row(
        "renewed, and the secret had ended",
        capture(
            token_response(),
            "grant_type=refresh_token&refresh_token=tGzv3JOkF0XG5Qx2TlKWIA&client_id=berth-planner-web",
            REFUSED % ("invalid_client", ""),
        ),
        "client-secret-expired",
        application="secret_expires = 2025-11-13",
        because={"refresh-refused": "client-secret-expired"},
    ),
    row(
        "groups by id",
        token(groups=["8b3f9c1e-0d52-4a9e-9a3e-2f9f3c1f6a10"]),
        "group-style-mismatch",
        more='[[claims]]\nname = "groups"\n[claims.maps]\n"grp-deck" = "deck"\n',
    ),
    row(
        "a role not known",
        token(role="Mate"),
        "claim-value-not-allowed",
        more='[[claims]]\nname = "role"\none_of = ["mate"]\n',
        value="mate",
    ),
    row(
        "a claim of nearly that name",
        token(Email="x@northmere.example", email=None),
        "claim-name-near-match",
        more='[[claims]]\nname = "email"\n',
    ),
]


OF_SAML = ("certificate", "ACS", "entity ID", "assertion", "NameID", "session index", "RSA-SHA", "HTTP-POST")
"""What no remedy of OpenID Connect may speak of, but those for certificates."""


@pytest.mark.parametrize("one", ROWS, ids=lambda one: one.name)
def test_row(one: Row, tmp_path: Path) -> None:
    settings = dict(one.settings)
    if one.name == "not assigned":
        text = 'provider = "northmere-id"\nprotocol = "oidc"\n[application]\nclient_id = "berth-planner-web"\n[provider_setup]\nassigned = "b.csv"\n'
        settings["files"] = {**settings["files"], "apps/berth-planner.toml": text}
    found = judge_texts(client_workspace(tmp_path, **settings), *one.texts, at=one.at, app=one.app)
    assert len(found) == 1, [each.source for each in found]
    diagnosis = found[-1]
    seen = {each.code: str(each.severity) for each in reversed(diagnosis.findings)}
    first = diagnosis.first_break
    assert (first.code if first else None) == one.first, seen
    assert diagnosis.outcome == (one.outcome or ("broken" if one.first else "sound")), (seen, diagnosis.unchecked)
    assert one.codes.items() <= seen.items(), seen
    for each in diagnosis.findings:
        foreign = {word for word in OF_SAML if word in str(each.remedy)} - {each.code.split("-")[0]}
        assert not foreign, (each.code, each.remedy)
    assert not set(one.absent) & set(seen)
    for effect, cause in one.because.items():
        assert {each.because_of for each in diagnosis.findings if each.code == effect} == {cause}, effect
    if first:
        assert (one.value or first.value_to_set, one.side or first.side) == (first.value_to_set, first.side)
        assert first.code not in diagnosis.next_breaks
    order = [(list(Stage).index(each.stage), list(Severity).index(each.severity)) for each in diagnosis.findings]
    assert order == sorted(order)
    assert [result.stage for result in diagnosis.stages] == list(SIGN_IN_STAGES)
    assert contradictions(diagnosis) == []
    for each in diagnosis.findings:
        assert each.title == catalogue.entry(each.code).title
        assert each.detail.endswith((".", "?")), each.detail
        assert all(item.source and item.where for item in each.evidence), each


def test_the_challenge_is_that_of_the_standard() -> None:
    from oidc_kit import VERIFIER
    from trace_lens.oidc.tokens import code_challenge

    assert code_challenge(VERIFIER) == CHALLENGE


def test_secrets_in_evidence_are_masked(tmp_path: Path) -> None:
    from trace_lens.common.masking import Masks
    from trace_lens.render.as_json import diagnoses

    found = judge_texts(
        client_workspace(tmp_path),
        capture(request(), answer(), token_request(code_verifier="v" * 43), REFUSED % ("invalid_grant", "")),
    )
    text = json.dumps(diagnoses(found, [], Masks(reveal=False)))
    assert "v" * 43 not in text
    assert "v" * 43 in json.dumps(diagnoses(found, [], Masks(reveal=True)))


@pytest.mark.parametrize(
    ("after", "side"),
    [(timedelta(minutes=-5), "application"), (timedelta(minutes=5), "provider"), (timedelta(days=2), "application")],
)
def test_whose_an_unknown_key_is(tmp_path: Path, after: timedelta, side: str) -> None:
    """A key set that was had soon after the token was issued, and has not its key, is the provider's to repair."""
    folder = client_workspace(tmp_path)
    address = "https://id.northmere.example/keys"
    file = folder / "providers/northmere-id.toml"
    file.write_text(file.read_text().replace("discovery/keys.json", address))
    data = json.dumps({"keys": [public_jwk(key("oidc"), "oidc")]}).encode()
    keep(folder, address, data, datetime.fromtimestamp(IAT, UTC) + after)
    (found,) = judge_texts(folder, token(signer="other"))
    first = found.first_break
    assert first is not None
    assert (first.code, str(first.side)) == ("key-id-unknown", side)
    (sound,) = judge_texts(folder, token())
    assert sound.first_break is None
