"""Authentic: the provider's own key signed the token, by an algorithm that may be, and what came beside it is its own.

Sources: RFC 7515 §4.1, §5.2; RFC 8725 §3; OpenID Connect Core 1.0 §3.1.3.6 to §3.1.3.8, §3.3.2.11; RFC 8037.
"""

from __future__ import annotations

from trace_lens.checks.certificate_dates import dates_of
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.signatures import allowed_algorithms, file_of, is_none
from trace_lens.checks.oidc.verified import TRUSTED
from trace_lens.common.findings import Severity, Side
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc import algorithms
from trace_lens.oidc.algorithms import SIGNATURES, same_algorithm
from trace_lens.oidc.jose import critical_names
from trace_lens.oidc.tokens import half_hash

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
    elif is_none(token.jws):
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


@check("algorithm-confusion", "algorithm-unexpected", "weak-signature")
def algorithm(case: OidcCase) -> Answer:
    """Is the algorithm one that may be here?"""
    token = case.token
    if token is None or (case.opening and case.opening.unsigned) or is_none(token.jws):
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
            remedy="Sign with RS256 or better.",
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
            evidence=file_of(found) or case.of_header("kid"),
        )


@check("certificate-expired", "certificate-not-yet-valid", "certificate-expiring")
def certificate_dates(case: OidcCase) -> Answer:
    """Was the certificate of the key that verifies it valid at the moment of the attempt (RFC 7517 §4.7)?"""
    found = case.verdict.key if case.verdict else None
    certificate = found.key.certificate if found and case.verdict and case.verdict.standing == TRUSTED else None
    if found and certificate:
        yield from dates_of(case, certificate, f"certificate of the key {found.key.words}", file_of(found))


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
            evidence=file_of(found),
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
    key_strength,
    certificate_dates,
    certificate_of_key,
    hashes,
)
