"""The values of an OpenID Connect attempt, and of its documents, that another can be held against."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.claims import matches
from trace_lens.checks.oidc.case import PROTOCOL_CLAIMS, OidcCase, values_of
from trace_lens.common.moments import show_duration
from trace_lens.comparison.items import IDS, MOMENTS, SIGNATURES, Item, some
from trace_lens.oidc.jwk import Jwk, read_key_set, thumbprint

_VERIFIED = (
    "signature-value-invalid",
    "signed-by-other-known-key",
    "signed-by-untrusted-key",
    "key-id-unknown",
    "key-id-missing",
    "no-trusted-key",
)
_CLAIM_CODES = (
    "claim-missing",
    "claim-empty",
    "claim-name-near-match",
    "claim-value-not-allowed",
    "claim-not-single",
    "group-unmapped",
    "group-style-mismatch",
    "email-unverified",
)
_NAMED = (
    "account-not-found",
    "account-near-match",
    "account-ambiguous",
    "guest-identifier",
    "not-assigned",
    "other-user-answered",
)
_REQUEST = {
    "client_id": ("identifier-in-request-unknown",),
    "redirect_uri": ("redirect-uri-mismatch",),
    "response_type": ("wrong-binding",),
    "response_mode": ("wrong-binding",),
    "scope": ("scope-not-granted", "token-missing", "consent-missing"),
    "prompt": (),
    "max_age": (),
    "acr_values": ("assurance-too-low",),
    "code_challenge_method": ("code-challenge-missing",),
    "login_hint": ("other-user-answered",),
    "resource": (),
}


def items_of_token(case: OidcCase) -> list[Item]:
    """All items of an OpenID Connect attempt that have a value."""
    return [
        item for item in (*_answer(case), *_token(case), *_claims(case), *_requests(case), *_noise(case)) if item.values
    ]


def _answer(case: OidcCase) -> Iterator[Item]:
    error = case.error
    refused = ("provider-refused", "request-rejected", "consent-missing", "token-request-refused")
    yield Item("error", some(error[1] if error else None), refused)
    answer = case.attempt.answer
    given = answer.parameters if answer else None
    yield Item("way of the answer", some(given.carried if given else None), ("wrong-binding",), only_if_both=True)
    yield Item(
        "address of the answer", some(given.address if given else None), ("redirect-uri-mismatch",), only_if_both=True
    )
    yield Item("iss of the answer", some(case.response_issuer), ("response-issuer-mismatch",), only_if_both=True)
    response = case.attempt.token_response
    for name in ("token_type", "expires_in", "scope"):
        value = response.get(name) if response else None
        yield Item(
            f"token response: {name}", some(value), ("session-ends-early", "scope-not-granted"), only_if_both=True
        )


def _token(case: OidcCase) -> Iterator[Item]:
    token = case.token
    if token is None:
        return
    yield Item("kind of token", some(token.kind), ("wrong-token-kind",))
    yield Item("issuer", some(token.text("iss")), ("issuer-mismatch", "issuer-unknown", "discovery-issuer-mismatch"))
    yield Item("audience", token.audience, ("audience-mismatch", "audience-missing", "authorized-party-mismatch"))
    yield Item("authorized party", some(token.text("azp")), ("authorized-party-mismatch",))
    yield Item(
        "algorithm",
        some(token.jws.algorithm),
        ("algorithm-none", "algorithm-confusion", "algorithm-unexpected", "weak-signature"),
    )
    yield Item("key", some(token.jws.key_id), _VERIFIED)
    standing = case.verdict.standing if case.verdict else None
    yield Item("verified by", some(standing), _VERIFIED, why="whose key made the signature")
    yield Item("encrypted", some("token" if case.opening else None), ("encrypted-no-key", "encrypted-to-other-key"))
    yield Item("subject", some(token.text("sub")), _NAMED, matters=False, personal=True)
    yield Item("authentication", some(token.text("acr")), ("assurance-too-low",))
    yield Item("authentication methods", values_of(token.claims.get("amr", [])), matters=False, personal=True)
    start, end = token.at("iat"), token.at("exp")
    yield Item(
        "valid for",
        some(show_duration(end - start) if start and end and end > start else None),
        ("validity-too-long", "session-ends-early"),
    )


def _claims(case: OidcCase) -> Iterator[Item]:
    read = {match.sent_as: match for match in matches(case) if match.sent_as}
    for name, values in case.said.items():
        match = read.get(name)
        decides = bool(match and (match.claim.means != "plain" or match.claim.one_of or match.claim.maps))
        why = f"{case.app.name if case.app else 'the application'} decides by it" if decides else "it must be there"
        source = case.source_of(name)
        by_account = name == case.account_source
        yield Item(
            f"claim {name}" + ("" if source == case.main_source else f" (of {source})"),
            values,
            (*(_CLAIM_CODES if match else ()), *(_NAMED if by_account else ())),
            matters=decides,
            why=why,
            personal=(bool(match) or by_account) and not decides,
            matters_if_missing=by_account or bool(match and match.claim.need in ("must", "should")),
        )


def _requests(case: OidcCase) -> Iterator[Item]:
    if case.request is None and case.attempt.request_object is None:
        return
    for name, codes in _REQUEST.items():
        yield Item(f"request: {name}", some(case.asked(name)) or ("(not given)",), codes, only_if_both=True)


def _noise(case: OidcCase) -> Iterator[Item]:
    """What differs in any two messages."""

    def noise(kind: str, named: Iterable[tuple[str, str | None]]) -> Iterator[Item]:
        for name, value in named:
            yield Item(name, some(value), noise=kind)

    token, answer = case.token, case.attempt.answer
    claims = {name: token.text(name) for name in PROTOCOL_CLAIMS} if token else {}
    yield from noise(IDS, ((name, claims.get(name)) for name in ("jti", "nonce", "sid", "at_hash", "c_hash", "s_hash")))
    yield from noise(IDS, ((f"answer {name}", answer.get(name) if answer else None) for name in ("state", "code")))
    yield from noise(MOMENTS, ((name, claims.get(name)) for name in ("iat", "exp", "nbf", "auth_time", "updated_at")))
    yield from noise(SIGNATURES, [("signature", token.jws.signature.hex() if token else None)])


def document_items(message: OidcMessage) -> Iterator[tuple[str, tuple[str, ...]]]:
    """The items of a discovery document or client registration: every member with its values."""
    for name, value in message.document.items():
        yield name, values_of(value)


def key_items(message: OidcMessage) -> Iterator[tuple[str, tuple[str, ...]]]:
    """The items of a key set: each key by its id, else its thumbprint."""
    for number, key in enumerate(read_key_set(message.document), 1):
        name = key.id or thumbprint(key) or str(number)
        yield f"key {name}", (_key_words(key),)


def _key_words(key: Jwk) -> str:
    members: list[Any] = [key.type, key.use, key.algorithm, key.members.get("crv")]
    told = ", ".join(str(member) for member in members if member)
    return f"{told}; thumbprint {thumbprint(key) or 'none'}" + (f"; {key.problem}" if key.problem else "")
