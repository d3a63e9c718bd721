"""The signature of a token: which key made it, and what can be told where none on record did (RFC 7515 §5.2)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import timedelta

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.not_fetched import not_fetched
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.verified import EMBEDDED, KNOWN, NONE, TRUSTED, Verdict, signature_length, suits
from trace_lens.common.findings import Evidence, Finding, Side, Unchecked
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc.algorithms import SIGNATURES, verifies
from trace_lens.oidc.jose import Jws
from trace_lens.workspace import token_keys
from trace_lens.workspace.token_keys import TokenKey

_SOON = timedelta(hours=1)
SIGNED_OTHERWISE = (
    "Check that it signs with a key of its key set, named by its id, and that nothing changes the token then."
)


def is_none(jws: Jws) -> bool:
    """Whether a token says, in whatever letters, that nobody signed it, or has neither algorithm nor signature."""
    return jws.algorithm.strip().casefold() == "none" or not (jws.signature or jws.algorithm.strip())


def allowed_algorithms(case: OidcCase) -> tuple[str, ...]:
    """The algorithms that a token may be signed by here: as set, else the asymmetric ones that discovery lists."""
    told = case.app.settings.application.oidc.token_algorithm if case.app else ()
    listed = case.provider.discovery.get("id_token_signing_alg_values_supported") if case.provider else None
    if told or not isinstance(listed, list):
        return told
    rows = [(str(name), SIGNATURES.get(str(name))) for name in listed]
    return tuple(name for name, row in rows if row and not row.symmetric)


@check(
    "signature-value-invalid",
    "signed-by-untrusted-key",
    "signed-by-other-known-key",
    "no-trusted-key",
    "key-id-unknown",
    "key-id-missing",
    decides=True,
)
def signature(case: OidcCase) -> Answer:
    """Did a key of the provider's key set make the signature?"""
    token, verdict = case.token, case.verdict
    if token is None or verdict is None or is_none(token.jws) or (case.opening and case.opening.unsigned):
        return
    jws = token.jws
    row = SIGNATURES.get(jws.algorithm)
    if row is None:
        return
    if row.symmetric:
        if jws.algorithm in allowed_algorithms(case):
            reason = say(
                "{algorithm} is checked with the client secret, which is never on record", algorithm=jws.algorithm
            )
            yield Unchecked("signature-value-invalid", reason, decides=True)
        return
    if case.app is None and case.provider is None:
        yield Unchecked("signature-value-invalid", "no application and no provider is known", decides=True)
        return
    if not verdict.keys:
        yield finding(
            "no-trusted-key",
            "No key of the provider is on record to judge the signature by"
            + (say(" ({broken})", broken=_broken(verdict)) if verdict.broken else "")
            + not_fetched(case.provider, "oidc")
            + ".",
            side=Side.APPLICATION,
            remedy="Fetch the provider's documents: trace-lens drift"
            if not_fetched(case.provider, "oidc")
            else "Save the provider's key set in the workspace and name it as key_set in the provider's file.",
            evidence=case.of_header("kid"),
        )
        if verdict.standing != KNOWN:
            missing = not_fetched(case.provider, "oidc")
            yield Unchecked("signature-value-invalid", f"no key of the provider is on record{missing}", decides=True)
    yield from _by_standing(case, jws, verdict)


def _broken(verdict: Verdict) -> str:
    return "; ".join(f"the key {key.key.words} cannot be used: {key.key.problem}" for key in verdict.broken[:3])


def _by_standing(case: OidcCase, jws: Jws, verdict: Verdict) -> Iterator[Finding]:
    suitable = [key for key in verdict.keys if suits(jws, key.key)]
    if verdict.standing == KNOWN and verdict.key:
        yield _by_another(case, verdict.key)
    elif verdict.standing == EMBEDDED:
        yield finding(
            "signed-by-untrusted-key",
            "The signature fits the key that came inside the token, and no key that is on record: whoever made the "
            "token chose that key.",
            remedy="Ask the provider's administrators whether the key is theirs; if it is, they must publish it in "
            "their key set.",
            evidence=case.of_header("jwk") if "jwk" in jws.header else case.of_header("x5c"),
        )
    elif verdict.standing == NONE and verdict.keys and (verdict.named or jws.key_id is None):
        why, remedy = _why(case, jws, verdict)
        yield finding(
            "signature-value-invalid",
            why,
            side=Side.PROVIDER,
            remedy=remedy,
            evidence=[*case.of_header("alg"), *case.of_header("kid")],
        )
    elif verdict.standing == TRUSTED and verdict.named and verdict.key not in verdict.named and verdict.key:
        yield _names_another(case, jws.key_id, verdict.key)
    if jws.key_id is not None and verdict.keys and not verdict.named:
        yield _unknown_id(case, jws, verdict)
    if jws.key_id is None and len(suitable) > 1:
        yield finding(
            "key-id-missing",
            say(
                "The token names no key, and {suitable} of the key set could be meant; they were all tried.",
                suitable=len(suitable),
            ),
            evidence=case.of_header("kid"),
        )


def _by_another(case: OidcCase, key: TokenKey) -> Finding:
    """A key on record made the signature, and not one that is trusted here."""
    return finding(
        "signed-by-other-known-key",
        say(
            "The signature was made with {key_words}, which is not in the key set that is trusted here.",
            key_words=key.words,
        ),
        actual=key.key.id or key.file,
        remedy="Let the application fetch the provider's key set anew, and save it here too; if the provider has "
        "retired the key, ask why it still signs with it.",
        evidence=[*case.of_header("kid"), *file_of(key)],
    )


def _names_another(case: OidcCase, key_id: str | None, key: TokenKey) -> Finding:
    """A trusted key made the signature, and not the one that the header names (RFC 7515 §4.1.4)."""
    return finding(
        "signature-value-invalid",
        say(
            "The token names the key {key_id}, which does not verify it; {key_words} does.",
            key_id=key_id,
            key_words=key.words,
        ),
        side=Side.PROVIDER,
        remedy="Name in the header the key that made the signature.",
        expected=key.key.id,
        actual=key_id,
        evidence=case.of_header("kid"),
    )


def _unknown_id(case: OidcCase, jws: Jws, verdict: Verdict) -> Finding:
    fits = (
        say(" The key {key_words} of the set verifies it all the same.", key_words=verdict.key.key.words)
        if (verdict.standing == TRUSTED and verdict.key)
        else ""
    )
    ids = ", ".join(key.key.id or "without an id" for key in verdict.keys)
    after = _unpublished(case)
    holds = (
        say("; the key set, fetched {after} after the token was issued, holds only {ids}", after=after, ids=ids)
        if after
        else say("; the key set on record holds {ids}", ids=ids) + _age(case)
    )
    return finding(
        "key-id-unknown",
        say("The token names the key {key_id}", key_id=jws.key_id)
        + holds
        + (say("; {broken}", broken=_broken(verdict)) if verdict.broken else "")
        + say(".{fits}", fits=fits),
        side=Side.PROVIDER if after else None,
        expected=ids,
        actual=jws.key_id,
        evidence=[*case.of_header("kid"), *file_of(verdict.keys[0])],
        compared=False,
    )


def _unpublished(case: OidcCase) -> str | None:
    """How long after the token was issued the key set was fetched, where that was within the hour: then the provider
    does not publish the key that it signs with, and no application can fetch it.
    """
    had = token_keys.had_at(case.provider, case.workspace) if case.provider else None
    issued = case.token.at("iat") if case.token else None
    if had is None or issued is None or not timedelta() <= had - issued <= _SOON:
        return None
    return show_duration(had - issued) if had - issued >= timedelta(seconds=1) else "less than a second"


def file_of(key: token_keys.TokenKey) -> list[Evidence]:
    """Where a key stands, as evidence."""
    return (
        [
            Evidence(
                "key",
                key.key.words,
                key.file,
                Location(path=key.key.place) if key.key.place else Location(part="the whole"),
            )
        ]
        if key.file
        else []
    )


def _why(case: OidcCase, jws: Jws, verdict: Verdict) -> tuple[str, str]:
    """What can be told of a signature that no key fits, and what its provider can do."""
    tried = verdict.named or verdict.keys
    if not any(suits(jws, key.key) for key in tried):
        kinds = " and ".join(dict.fromkeys(key.key.type or "another type" for key in tried))
        return say(
            "No key verifies the token: its algorithm {algorithm} needs another type than {kinds}.",
            algorithm=jws.algorithm,
            kinds=kinds,
        ), "Publish in the key set the key that it signs with now."
    other = next((name for name in SIGNATURES if _fits_as(jws, name, tried)), None)
    if other:
        return say(
            "The signature was made with the right key, but by {other}, not {algorithm} as the "
            "header says: the header was altered, or the provider writes the wrong algorithm.",
            other=other,
            algorithm=jws.algorithm,
        ), say("Name {other} in the header, if nothing on the way alters tokens.", other=other)
    size = signature_length(jws, verdict)
    if size and len(jws.signature) != size:
        return say(
            "No key verifies the token: its signature has {signature} bytes where {size} belong, so "
            "it was cut or lengthened on the way.",
            signature=len(jws.signature),
            size=size,
        ), "Find out where the token loses or gains characters after it was signed."
    which = say("the key {key_words}", key_words=tried[0].key.words) if verdict.named else "any key of the key set"
    return (
        say(
            "The signature does not fit {which}{age}, and no other key on record either: header or "
            "payload were altered after signing, or another key made it.",
            which=which,
            age=_age(case),
        ),
        SIGNED_OTHERWISE,
    )


def _fits_as(jws: Jws, algorithm: str, keys: Iterable[token_keys.TokenKey]) -> bool:
    """Whether one of these keys made the signature by another algorithm than the header names."""
    if algorithm == jws.algorithm or SIGNATURES[algorithm].symmetric:
        return False
    return any(
        key.key.public is not None and verifies(algorithm, key.key.public, jws.signature, jws.signing_input)
        for key in keys
    )


def _age(case: OidcCase) -> str:
    """How old the key set on record is."""
    saved = token_keys.saved_at(case.provider, case.workspace) if case.provider else None
    return say(" (key set saved {replace})", replace=show_moment(saved.replace(microsecond=0))) if saved else ""


CHECKS = (signature,)
