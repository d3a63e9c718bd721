"""Messages of OpenID Connect and OAuth 2.0 laid open: tokens, parameters and documents, secrets marked as such."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from trace_lens.common.kinds import PARAMETER_KINDS, TOKEN_KINDS
from trace_lens.common.masking import Secret
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.secret_names import PARAMETERS, hidden, hidden_text
from trace_lens.common.secrets_in_text import without_tokens
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.oauth_pieces import OPAQUE, parameters_of
from trace_lens.oidc import documents, errors
from trace_lens.oidc.jose import JoseDamaged, read_jwe, read_jws
from trace_lens.oidc.jwk import read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.oidc.tokens import TIMES, NoClaims, Token, read_numeric_date, read_token


class Laid(NamedTuple):
    """What stands in a message: the values looked for first, the whole, and what is wrong with it (code and reason)."""

    summary: dict[str, Any]
    content: dict[str, Any]
    damage: tuple[tuple[str, str], ...] = ()


def lay(found: FoundMessage) -> Laid:
    """Lay one message open."""
    if OPAQUE in found.context:
        why = "it is no JWT: only the provider that made it can say what it means (introspection, userinfo)"
        return Laid({"told_by": why, "form": "opaque", "size": len(found.data)}, {"token": Secret(found.data.decode())})
    try:
        if found.kind == "authorization-request" and found.data[:3] == b"eyJ":
            return _token(found)
        if found.kind in TOKEN_KINDS or (found.kind == "userinfo" and found.data[:3] == b"eyJ"):
            return _token(found)
        if found.kind == "jwe":
            return _jwe(found)
        if found.kind in PARAMETER_KINDS:
            return _parameters(found)
        return _document(found)
    except JoseDamaged as error:
        code = "capture-truncated" if error.truncated else "malformed-message"
        return Laid({"size": len(found.data)}, {}, ((code, error.reason),))
    except JsonDamaged as error:
        code = "capture-truncated" if error.truncated else "malformed-message"
        return Laid({"size": len(found.data)}, {}, ((code, error.reason),))
    except NoClaims as error:
        return Laid({"size": len(found.data)}, {}, (("malformed-message", str(error)),))


def _token(found: FoundMessage) -> Laid:
    token = read_token(read_jws(found.data.decode("utf-8", "replace")))
    content = {
        "header": hidden(token.jws.header),
        "claims": hidden(token.claims),
        "moments": moments_in_words(token.claims, token.at("iat")),
        "signature": Secret(token.jws.text.rpartition(".")[2]) if "." in token.jws.text else None,
    }
    return Laid(token_summary(token), content, tuple(("malformed-message", oddity) for oddity in _oddities(token)))


def _oddities(token: Token) -> list[str]:
    odd = [f"{name} appears twice in its claims" for name in token.duplicates]
    odd += [f"the number {text} is larger than JSON readers keep exactly" for text in token.inexact]
    odd += list(token.jws.problems)
    for name in TIMES:
        found = token.moment(name)
        if found and found.problem:
            odd.append(f"{name} is {found.written!r}: {found.problem}")
    return odd


def token_summary(token: Token) -> dict[str, Any]:
    """The values of a token that people look for first."""
    claims = token.claims
    return {
        "told_by": token.why,
        "issuer": token.text("iss"),
        "subject": token.text("sub"),
        "audience": list(token.audience),
        "authorized_party": token.text("azp"),
        "client_id": token.text("client_id"),
        "issued_at": _moment(token.at("iat")),
        "valid_from": _moment(token.at("nbf")),
        "valid_until": _moment(token.at("exp")),
        "authenticated_at": _moment(token.at("auth_time")),
        "authentication": token.text("acr"),
        "methods": list(claims["amr"]) if isinstance(claims.get("amr"), list) else [],
        "nonce": token.text("nonce"),
        "session": token.text("sid"),
        "scope": list(token.scopes),
        "algorithm": token.jws.algorithm or None,
        "key_id": token.jws.key_id,
        "signed_parts": ["token"] if token.jws.signature else [],
        "size": len(token.jws.text),
    }


def _jwe(found: FoundMessage) -> Laid:
    jwe = read_jwe(found.data.decode("utf-8", "replace"))
    summary = {
        "algorithm": jwe.header.get("alg"),
        "content_encryption": jwe.header.get("enc"),
        "key_id": jwe.header.get("kid"),
        "inside": jwe.header.get("cty"),
        "size": len(found.data),
    }
    return Laid(summary, {"header": hidden(jwe.header)})


def _parameters(found: FoundMessage) -> Laid:
    given = parameters_of(found)
    pairs = ((name, Secret(value) if name in PARAMETERS else hidden_text(value)) for name, value in given.pairs)
    content = {"parameters": [{"name": name, "value": value} for name, value in pairs]}
    wanted = (
        "response_type",
        "client_id",
        "redirect_uri",
        "response_mode",
        "state",
        "nonce",
        "prompt",
        "max_age",
        "login_hint",
        "acr_values",
        "code_challenge_method",
        "grant_type",
        "error",
        "error_description",
        "iss",
    )
    address = without_tokens(given.address) if given.address else None
    summary: dict[str, Any] = {"address": address, "carried": given.carried}
    summary |= {name: hidden_text(value) for name in wanted if (value := given.get(name))}
    if given.scopes:
        summary["scope"] = list(given.scopes)
    for name in ("code", "id_token", "access_token", "refresh_token", "code_verifier", "client_secret"):
        value = given.get(name)
        if value:
            summary[name] = Secret(value)
    summary |= _error_words(given.get("error"))
    damage = tuple(("malformed-message", f"{name} appears more than once") for name in given.twice)
    return Laid(summary, content, damage)


def _error_words(code: str | None) -> dict[str, str]:
    meaning = errors.meaning_of(code) if code else None
    return {"meaning": meaning.meaning} if meaning else {}


def _document(found: FoundMessage) -> Laid:
    read = read_json(found.data)
    document = read.value if isinstance(read.value, dict) else {}
    odd = tuple(("malformed-message", f"{name} appears twice") for name in read.duplicates)
    summary = _SUMMARIES[found.kind](document)
    return Laid(summary, hidden(document), odd)


def _token_response(document: Mapping[str, Any]) -> dict[str, Any]:
    def of(name: str) -> str | None:
        value = document.get(name)
        if not isinstance(value, str):
            return None
        return "a signed token" if value[:3] == "eyJ" else f"opaque, {len(value)} characters"

    given = {name: of(name) for name in ("id_token", "access_token", "refresh_token")}
    plain = {
        name: document[name]
        for name in ("token_type", "expires_in", "scope", "error", "error_description")
        if name in document
    }
    return {
        **{name: words for name, words in given.items() if words},
        **plain,
        **_error_words(str(document.get("error"))),
    }


def _userinfo(document: Mapping[str, Any]) -> dict[str, Any]:
    return {"subject": document.get("sub"), "claims": sorted(document)}


def _introspection(document: Mapping[str, Any]) -> dict[str, Any]:
    moments = {name: _moment(read_numeric_date(document[name]).moment) for name in ("exp", "iat") if name in document}
    return {
        "active": document.get("active"),
        "subject": document.get("sub"),
        "client_id": document.get("client_id"),
        "scope": document.get("scope"),
        "valid_until": moments.get("exp"),
        "issued_at": moments.get("iat"),
    }


def _registration(document: Mapping[str, Any]) -> dict[str, Any]:
    ends = document.get("client_secret_expires_at")
    end = _moment(read_numeric_date(ends).moment) if ends else None
    return {
        "client_id": document.get("client_id"),
        "client_name": document.get("client_name"),
        "redirect_uris": document.get("redirect_uris") or [],
        "grant_types": document.get("grant_types") or [],
        "client_authentication": document.get("token_endpoint_auth_method"),
        "secret_until": end,
    }


def _discovery(document: Mapping[str, Any]) -> dict[str, Any]:
    return {
        "issuer": document.get("issuer"),
        "addresses": [
            {"purpose": name, "location": document[name]} for name in documents.ENDPOINTS if name in document
        ],
        "response_types": document.get("response_types_supported") or [],
        "scopes": document.get("scopes_supported") or [],
        "algorithms": document.get("id_token_signing_alg_values_supported") or [],
        "client_authentication": document.get("token_endpoint_auth_methods_supported") or [],
        "code_challenge_methods": document.get("code_challenge_methods_supported") or [],
    }


def _keys(document: Mapping[str, Any]) -> dict[str, Any]:
    return {
        "keys": [
            {
                "key_id": jwk.id,
                "type": jwk.type,
                "use": jwk.use,
                "algorithm": jwk.algorithm,
                "thumbprint": thumbprint(jwk),
                "problem": jwk.problem or jwk.weakness,
            }
            for jwk in read_key_set(document)
        ]
    }


_SUMMARIES = {
    "token-response": _token_response,
    "userinfo": _userinfo,
    "introspection": _introspection,
    "client-registration": _registration,
    "discovery-document": _discovery,
    "key-set": _keys,
    "jwk": _keys,
}


def moments_in_words(claims: Mapping[str, Any], issued: datetime | None) -> dict[str, str]:
    """The moments of a token in UTC, and how far from the moment it was issued each lies."""
    words = {}
    for name in TIMES:
        moment = read_numeric_date(claims[name]).moment if name in claims else None
        if moment is None:
            continue
        text = show_moment(moment)
        if issued and moment != issued:
            text += f", {show_duration(moment - issued)} {'after' if moment > issued else 'before'} it was issued"
        words[name] = text
    return words


def _moment(value: datetime | None) -> str | None:
    return show_moment(value) if value else None
