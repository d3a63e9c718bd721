"""The strict path of ID tokens: sound ones of the usual shape, that came alone, told apart from all others.

As for SAML (`strict`), it says that the full judge would call a token sound, or nothing. Why a yes is right:

- *Shape.* The text is one compact JWS to the letter. Its header names an algorithm, a key, and nothing that a reader
  must heed; no member stands twice in it or in the claims; each claim that a check reads has the type that it must.
- *Signature.* The one key that the `kid` names in the provider's key set verifies it, by an algorithm that may be here.
- *Comparisons.* Issuer, the one audience, authorized party, the times, the age and strength of the authentication,
  account, assignment and claims are compared as the checks do, with what is prepared per application. Settings that a
  check judges otherwise leave the application unprepared.
- *Nothing else decides.* The token came alone, so no check that needs a request, an answer, a way or a log can break; a
  test asks both paths of every token that there is, and of tokens with every small change.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from trace_lens.checks.oidc.case import values_of
from trace_lens.checks.oidc.intended import WELL_KNOWN
from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.choosing import identities
from trace_lens.diagnosis.sound import Sound, knows, serves
from trace_lens.oidc.algorithms import SIGNATURES, WEAK, same_algorithm, verifies
from trace_lens.oidc.jwk import thumbprint
from trace_lens.oidc.tokens import ID, kind_of
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.token_keys import published

_TOKEN = expression(rb"(eyJ[A-Za-z0-9_-]{8,}+)\.([A-Za-z0-9_-]++)\.([A-Za-z0-9_-]++)\s*+")
_HEADER = frozenset({"alg", "kid", "typ", "x5t", "x5t#S256"})
_OF_OTHER_MESSAGES = frozenset(
    {
        "code",
        "state",
        "request_uri",
        "device_code",
        "code_verifier",
        "code_challenge",
        "access_token",
        "id_token",
        "refresh_token",
        "issuer",
        "error",
        "_claim_names",
        "_claim_sources",
    }
)
"""Claims by which a token would belong to other messages, or be more than one."""
_TEXTS = ("nonce", "at_hash", "c_hash", "sid", "azp")
_MOST_BRACKETS = 32
_LONG_NUMBER = expression(rb"[0-9]{300}")
_LATEST = 32_503_680_000
"""The year 3000, in seconds since 1970."""


class PreparedClient(NamedTuple):
    """What tokens for one client are compared with. `keys` are those that one `kid` names each."""

    app: App
    provider: Provider
    issuer: str
    keys: dict[str, PublicKeyTypes]
    algorithms: frozenset[str]
    skew: timedelta
    max_age: timedelta | None
    contexts: frozenset[str]
    knows: Callable[[str], bool]
    assigned: frozenset[str] | None
    read: frozenset[str]
    markers: frozenset[str]


class HeldToken(NamedTuple):
    """A compact token: its text, the first part of it, header and claims, and the part that is the signature."""

    text: bytes
    head: bytes
    header: dict[str, Any]
    claims: dict[str, Any]
    made: bytes


class _Other(Exception):
    """The token is not of the shape that is judged here."""


def prepared_clients(workspace: Workspace) -> dict[str, PreparedClient]:
    """The clients whose tokens can be judged here, by their identifier. Raises SettingsError."""
    return workspace.once("prepared clients", lambda: _all_prepared(workspace))


def _all_prepared(workspace: Workspace) -> dict[str, PreparedClient]:
    known = [identity for identity in identities(workspace) if identity.app.settings.protocol == "oidc"]
    found = {}
    for identity in known:
        app = identity.app
        client = app.settings.application.oidc.client_id or app.settings.provider_setup.client_id
        if app.is_interface or not client or sum(client in other.names for other in known) != 1:
            continue
        try:
            made = _prepare(app, workspace)
        except SettingsError:
            continue  # the full judge says what is wrong with it
        if made:
            found[client] = made
    return found


def _prepare(app: App, workspace: Workspace) -> PreparedClient | None:
    provider, told = workspace.provider_of(app), app.settings.application.oidc
    if provider is None or not provider.issuer or app.checks_certificate_dates:
        return None
    issuer = told.provider_issuer or provider.issuer
    if issuer != provider.issuer or [
        other for other in workspace.providers.values() if issuer in other.identifiers
    ] != [provider]:
        return None
    url, listed = told.discovery_url or "", provider.discovery.get("issuer")
    if listed not in (None, issuer) or (
        url.endswith(WELL_KNOWN) and url.removesuffix(WELL_KNOWN) != issuer.rstrip("/")
    ):
        return None
    read = frozenset(name for claim in app.settings.claims for name in (claim.name, *claim.also_as))
    if "sub" in read or {app.settings.account.source, *read} & _OF_OTHER_MESSAGES:
        return None
    declared = app.settings.provider_setup.assigned
    rows = app.assignments if declared not in (None, "everyone") else None
    return PreparedClient(
        app=app,
        provider=provider,
        issuer=issuer,
        keys=_keys(provider, workspace),
        algorithms=_algorithms(told.token_algorithm, provider),
        skew=app.clock_skew,
        max_age=told.max_age,
        contexts=frozenset(told.acr_values),
        knows=knows(app, workspace),
        assigned=None if rows is None else frozenset(row.user.casefold() for row in rows if row.user),
        read=read,
        markers=frozenset(provider.settings.left_out_markers),
    )


def _keys(provider: Provider, workspace: Workspace) -> dict[str, PublicKeyTypes]:
    """The public keys of the key set by the names that a token may call them by, where one is meant by a name."""
    named: dict[str, list[PublicKeyTypes | None]] = {}
    for held in published(provider, workspace):
        if held.key.for_signing:
            for name in {held.key.id, thumbprint(held.key)} - {None}:
                named.setdefault(str(name), []).append(held.key.public)
    return {name: keys[0] for name, keys in named.items() if len(keys) == 1 and keys[0] is not None}


def _algorithms(told: tuple[str, ...], provider: Provider) -> frozenset[str]:
    """The asymmetric algorithms, none of them weak, that tokens may be signed by."""
    listed = provider.discovery.get("id_token_signing_alg_values_supported")
    usable = frozenset(name for name, row in SIGNATURES.items() if not row.symmetric and name not in WEAK)
    allowed = told or [str(name) for name in (listed if isinstance(listed, list) else ())]
    if not told:
        allowed = [name for name in allowed if (row := SIGNATURES.get(name)) and not row.symmetric]
    if not allowed:
        return usable
    return frozenset(name for name in usable if any(same_algorithm(name, other) for other in allowed))


def sound_token(data: bytes, workspace: Workspace) -> Sound | None:
    """What is known of an ID token that came alone and that the full judge would call sound; None where only it can
    tell. Raises SettingsError.
    """
    held = read_token(data)
    return sound_as_read(held, workspace) if held else None


def read_token(data: bytes) -> HeldToken | None:
    """What one compact token says; None where the text is no such thing, or one that readers differ in."""
    match = _TOKEN.fullmatch(data) if len(data) <= limits.COOKIE_BYTES else None
    if match is None:
        return None
    try:
        return HeldToken(data.rstrip(), match[1], _object(match[1]), _object(match[2]), match[3])
    except (_Other, ValueError):
        return None


def sound_as_read(held: HeldToken, workspace: Workspace) -> Sound | None:
    """What is known of a token that the full judge would call sound. Raises SettingsError."""
    try:
        return _sound(held, workspace)
    except (_Other, TypeError, ValueError, LookupError):
        return None


def _sound(held: HeldToken, workspace: Workspace) -> Sound | None:
    header, claims = held.header, held.claims
    audience = claims["aud"]
    (client,) = audience if isinstance(audience, list) else (audience,)
    to = prepared_clients(workspace).get(client)
    if to is None:
        return None
    algorithm, key_id = header.get("alg"), header.get("kid")
    key = to.keys.get(key_id) if isinstance(key_id, str) else None
    if not header.keys() <= _HEADER or algorithm not in to.algorithms or key is None:
        return None
    if kind_of(header, claims)[0] != ID or not _OF_OTHER_MESSAGES.isdisjoint(claims) or claims["iss"] != to.issuer:
        return None
    if any(not isinstance(claims.get(name, ""), str) for name in _TEXTS):
        return None
    if claims.get("azp", client) != client:
        return None
    if not _in_time(to, claims) or not _allowed(to, claims):
        return None
    if not verifies(algorithm, key, _octets(held.made), held.text[: -len(held.made) - 1]):
        return None
    subject = claims["sub"]
    keys = {f"token {held.text.decode()}"}
    keys |= {f"hash {claims[name]}" for name in ("at_hash", "c_hash") if claims.get(name)}
    keys |= {f"nonce {claims['nonce']}"} if claims.get("nonce") else set()
    session = {f"session {claims['sid']}"} if claims.get("sid") else set()
    at = datetime.fromtimestamp(claims["iat"], UTC)
    return Sound(to.app, to.provider, subject, "application", at, frozenset(keys), frozenset(keys | session), "oidc")


def _octets(text: bytes) -> bytes:
    return base64.urlsafe_b64decode(text + b"=" * (-len(text) % 4))


def _object(text: bytes) -> dict[str, Any]:
    """A JSON object, no member of which stands twice, and that is not deep."""
    octets = _octets(text)
    if octets.count(b"{") + octets.count(b"[") > _MOST_BRACKETS or _LONG_NUMBER.search(octets):
        raise _Other
    found = json.loads(octets.decode(), object_pairs_hook=_once, parse_constant=_no_constant)
    if not isinstance(found, dict):
        raise _Other
    return found


def _once(members: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(members)
    if len(made) != len(members):
        raise _Other
    return made


def _no_constant(name: str) -> float:
    raise _Other


def _in_time(to: PreparedClient, claims: dict[str, Any]) -> bool:
    """Whether the token was good when it was issued, and the authentication recent enough."""
    ends, made = claims["exp"], claims["iat"]
    begins, when = claims.get("nbf", made), claims.get("auth_time", made)
    if any(type(moment) is not int or not 0 <= moment < _LATEST for moment in (ends, made, begins, when)):
        return False
    skew = to.skew.total_seconds()
    if made < begins - skew or made >= ends + skew or ends <= begins:
        return False
    return to.max_age is None or ("auth_time" in claims and made - when <= to.max_age.total_seconds())


def _allowed(to: PreparedClient, claims: dict[str, Any]) -> bool:
    """Whether account, assignment, strength of the authentication and claims allow it."""
    subject, source = claims["sub"], to.app.settings.account.source
    if not isinstance(subject, str) or not subject.strip() or not to.markers.isdisjoint(claims):
        return False
    if source in ("NameID", "sub"):
        name: str | None = subject
    else:
        name = next((value for value in values_of(claims[source]) if value.strip()), None)
    if name is None or not to.knows(name):
        return False
    if to.assigned is not None and to.assigned.isdisjoint((subject.casefold(), name.casefold())):
        return False
    if to.contexts and claims.get("acr") not in to.contexts:
        return False
    values = {claimed: values_of(claims[claimed]) for claimed in to.read if claimed in claims}
    return all(serves(claim, values) for claim in to.app.settings.claims)
