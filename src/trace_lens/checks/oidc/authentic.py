"""Authentic: the provider's own key signed the token, by an algorithm that may be, and what came beside it is its own.

Sources: RFC 7515 §4.1, §5.2; RFC 8725 §3; OpenID Connect Core 1.0 §3.1.3.6 to §3.1.3.8, §3.3.2.11; RFC 8037.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import timedelta

from trace_lens.checks.certificate_dates import dates_of
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.not_fetched import not_fetched
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.verified import EMBEDDED, KNOWN, NONE, TRUSTED, Verdict, signature_length, suits
from trace_lens.common.findings import Evidence, Finding, Severity, Side, Unchecked
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc import algorithms
from trace_lens.oidc.algorithms import SIGNATURES, same_algorithm, verifies
from trace_lens.oidc.jose import Jws, critical_names
from trace_lens.oidc.tokens import half_hash
from trace_lens.workspace import token_keys

_SOON = timedelta(hours=1)
_EMBEDDED = ("jwk", "jku", "x5c", "x5u")


@check("algorithm-none", "not-signed", decides=True)
def is_signed(case: OidcCase) -> Answer:
    """Is the token signed at all?"""
    token = case.token
    if token is None:
        return
    if case.opening and case.opening.unsigned:
        yield finding(
            "not-signed",
            "The token is encrypted, but nobody signed what is inside: whoever has the public key could have made it.",
            side=Side.PROVIDER,
            remedy="Sign the token first, then encrypt it (OpenID Connect Core 1.0 §2).",
            evidence=case.of_token("iss", "iss"),
        )
    elif _is_none(token.jws):
        yield finding(
            "algorithm-none",
            (
                say("The header says alg {algorithm}", algorithm=repr(token.jws.algorithm))
                if token.jws.algorithm
                else "The header names no alg"
            )
            + ": the token is not signed, and anybody could have made it.",
            actual=token.jws.algorithm,
            evidence=case.of_header("alg"),
        )


def _is_none(jws: Jws) -> bool:
    return jws.algorithm.strip().casefold() == "none" or not (jws.signature or jws.algorithm.strip())


def allowed_algorithms(case: OidcCase) -> tuple[str, ...]:
    """The algorithms that a token may be signed by here: as set, else the asymmetric ones that discovery lists."""
    told = case.app.settings.application.oidc.token_algorithm if case.app else ()
    listed = case.provider.discovery.get("id_token_signing_alg_values_supported") if case.provider else None
    if told or not isinstance(listed, list):
        return told
    rows = [(str(name), SIGNATURES.get(str(name))) for name in listed]
    return tuple(name for name, row in rows if row and not row.symmetric)


@check("algorithm-confusion", "algorithm-unexpected", "weak-signature")
def algorithm(case: OidcCase) -> Answer:
    """Is the algorithm one that may be here?"""
    token = case.token
    if token is None or (case.opening and case.opening.unsigned) or _is_none(token.jws):
        return
    name = token.jws.algorithm
    row = SIGNATURES.get(name)
    allowed = allowed_algorithms(case)
    set_here = (
        [case.set_in_app("token_algorithm", ", ".join(allowed), "application", "token_algorithm")]
        if (case.app and case.app.settings.application.oidc.token_algorithm)
        else []
    )
    if row and row.symmetric and name not in allowed:
        yield finding(
            "algorithm-confusion",
            say(
                "The token says {name}, a shared secret, where only public keys are on record. An "
                "application that takes the algorithm from the token would check it with the public key, "
                "which everybody has.",
                name=name,
            ),
            expected=", ".join(allowed) or "an asymmetric algorithm",
            actual=name,
            evidence=[*case.of_header("alg"), *set_here],
            compared=False,
        )
        return
    if row is None or (allowed and not any(same_algorithm(name, text) for text in allowed)):
        yield finding(
            "algorithm-unexpected",
            say("The token is signed by {name}; ", name=name or "an algorithm that it does not name")
            + (
                say("expected here is {allowed}.", allowed=" or ".join(allowed))
                if allowed
                else "no such signature algorithm is known."
            ),
            expected=" or ".join(allowed) or None,
            actual=name,
            evidence=[*case.of_header("alg"), *set_here],
            compared=False,
        )
    if name in algorithms.WEAK:
        yield finding(
            "weak-signature",
            say("{name} uses SHA-1, which is broken.", name=name),
            actual=name,
            evidence=case.of_header("alg"),
        )


@check("critical-header-unknown")
def critical(case: OidcCase) -> Answer:
    """Does the header demand something that is not understood (RFC 7515 §4.1.11)?"""
    jws = case.token.jws if case.token else None
    if jws is None:
        return
    if "crit" in jws.header:
        listed = critical_names(jws.header["crit"])
        yield finding(
            "critical-header-unknown",
            say("The header demands that {listed} is understood, and no extension is understood here.", listed=listed),
            actual=listed,
            evidence=case.of_header("crit"),
        )
    elif "crit" in jws.unprotected:
        yield finding(
            "critical-header-unknown",
            "crit is in the unprotected header, which nobody signed: such a token must be refused.",
            actual=critical_names(jws.unprotected["crit"]),
            evidence=case.of_header("crit"),
        )
    elif jws.header.get("b64", jws.unprotected.get("b64")) is False:
        yield finding(
            "critical-header-unknown",
            "The header says b64 false without naming it in crit: readers differ in what was signed (RFC 7797 §6).",
            actual="b64",
            evidence=case.of_header("b64"),
        )


@check("embedded-key-ignored")
def embedded(case: OidcCase) -> Answer:
    """Does the token bring its own key, or an address for one?"""
    header = case.token.jws.header if case.token else {}
    brought = [name for name in _EMBEDDED if name in header]
    if brought:
        yield finding(
            "embedded-key-ignored",
            say(
                "The header brings {brought}: a key, or an address for one, that whoever made the token "
                "chose. It was not trusted and not fetched.",
                brought=", ".join(brought),
            ),
            actual=", ".join(brought),
            evidence=[item for name in brought for item in case.of_header(name)],
        )


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
    if token is None or verdict is None or _is_none(token.jws) or (case.opening and case.opening.unsigned):
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
        yield finding(
            "signed-by-other-known-key",
            say(
                "The signature was made with {key_words}, which is not in the key set that is trusted here.",
                key_words=verdict.key.words,
            ),
            actual=verdict.key.key.id or verdict.key.file,
            remedy="Let the application fetch the provider's key set anew, and save it here too; if the provider has "
            "retired the key, ask why it still signs with it.",
            evidence=[*case.of_header("kid"), *_file(verdict.key)],
        )
    elif verdict.standing == EMBEDDED:
        yield finding(
            "signed-by-untrusted-key",
            "The signature fits the key that came inside the token, and no key that is on record: whoever made the "
            "token chose that key.",
            evidence=case.of_header("jwk") if "jwk" in jws.header else case.of_header("x5c"),
        )
    elif verdict.standing == NONE and verdict.keys and (verdict.named or jws.key_id is None):
        yield finding(
            "signature-value-invalid",
            _why(case, jws, verdict),
            side=Side.PROVIDER,
            evidence=[*case.of_header("alg"), *case.of_header("kid")],
        )
    elif verdict.standing == TRUSTED and verdict.named and verdict.key not in verdict.named and verdict.key:
        yield finding(
            "signature-value-invalid",
            say(
                "The token names the key {key_id}, which does not verify it; {key_words} does.",
                key_id=jws.key_id,
                key_words=verdict.key.words,
            ),
            side=Side.PROVIDER,
            expected=verdict.key.key.id,
            actual=jws.key_id,
            evidence=case.of_header("kid"),
        )
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
        evidence=[*case.of_header("kid"), *_file(verdict.keys[0])],
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


def _file(key: token_keys.TokenKey) -> list[Evidence]:
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


def _why(case: OidcCase, jws: Jws, verdict: Verdict) -> str:
    """What can be told of a signature that no key fits."""
    tried = verdict.named or verdict.keys
    if not any(suits(jws, key.key) for key in tried):
        kinds = " and ".join(dict.fromkeys(key.key.type or "another type" for key in tried))
        return say(
            "No key verifies the token: its algorithm {algorithm} needs another type than {kinds}.",
            algorithm=jws.algorithm,
            kinds=kinds,
        )
    other = next((name for name in SIGNATURES if _fits_as(jws, name, tried)), None)
    if other:
        return say(
            "The signature was made with the right key, but by {other}, not {algorithm} as the "
            "header says: the header was altered, or the provider writes the wrong algorithm.",
            other=other,
            algorithm=jws.algorithm,
        )
    size = signature_length(jws, verdict)
    if size and len(jws.signature) != size:
        return say(
            "No key verifies the token: its signature has {signature} bytes where {size} belong, so "
            "it was cut or lengthened on the way.",
            signature=len(jws.signature),
            size=size,
        )
    which = say("the key {key_words}", key_words=tried[0].key.words) if verdict.named else "any key of the key set"
    return say(
        "The signature does not fit {which}{age}, and no other key on record either: header or "
        "payload were altered after signing, or another key made it.",
        which=which,
        age=_age(case),
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


@check("weak-key")
def key_strength(case: OidcCase) -> Answer:
    """Is the key that verifies it strong enough (RFC 7518 §3.3)?"""
    found = case.verdict.key if case.verdict else None
    if found and found.key.weakness:
        yield finding(
            "weak-key",
            say("The key {key_words} is weak: {weakness}.", key_words=found.key.words, weakness=found.key.weakness),
            side=Side.PROVIDER,
            actual=found.key.weakness,
            evidence=_file(found) or case.of_header("kid"),
        )


@check("certificate-expired", "certificate-not-yet-valid", "certificate-expiring")
def certificate_dates(case: OidcCase) -> Answer:
    """Was the certificate of the key that verifies it valid at the moment of the attempt (RFC 7517 §4.7)?"""
    found = case.verdict.key if case.verdict else None
    certificate = found.key.certificate if found and case.verdict and case.verdict.standing == TRUSTED else None
    if found and certificate:
        yield from dates_of(case, certificate, f"certificate of the key {found.key.words}", _file(found))


@check("certificate-damaged")
def certificate_of_key(case: OidcCase) -> Answer:
    """Does the certificate beside the key hold that key (RFC 7517 §4.7)?"""
    found = case.verdict.key if case.verdict else None
    certificate = found.key.certificate if found else None
    if found and certificate and found.key.public is not None and certificate.public_key != found.key.public:
        yield finding(
            "certificate-damaged",
            say(
                "The certificate beside the key {key_words} holds another key: an application that reads "
                "x5c refuses what one that reads the key itself takes.",
                key_words=found.key.words,
            ),
            severity=Severity.RISK,
            side=Side.PROVIDER,
            remedy="Publish the certificate of this key with it, or none.",
            actual=str(certificate.sha256),
            evidence=_file(found),
        )


@check("token-hash-mismatch")
def hashes(case: OidcCase) -> Answer:
    """Are `at_hash`, `c_hash` and `s_hash` the half hashes of what came beside the token?"""
    token = case.token
    if token is None:
        return
    answer = case.attempt.answer
    home = case.judged.within if case.judged else None
    came_with = home.get("access_token") if home else case.attempt.access_token_text
    beside = {
        "at_hash": ("access token", came_with),
        "c_hash": ("code", answer.get("code") if answer else None),
        "s_hash": ("state", answer.get("state") if answer else None),
    }
    for name, (what, value) in beside.items():
        told = token.text(name)
        if told is None or value is None:
            continue
        made = half_hash(token.jws.algorithm, value)
        if made is not None and made != told:
            yield finding(
                "token-hash-mismatch",
                say(
                    "{name} is not the half hash of the {what} that came beside the token: they do not "
                    "belong together.",
                    name=name,
                    what=what,
                ),
                expected=made,
                actual=told,
                evidence=case.of_token(name, name),
                compared=False,
            )


CHECKS = (
    is_signed,
    algorithm,
    critical,
    embedded,
    signature,
    key_strength,
    certificate_dates,
    certificate_of_key,
    hashes,
)
