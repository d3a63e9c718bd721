"""Identified, as far as it is OpenID Connect's own: one subject throughout, the one asked for, and one that lasts."""

from __future__ import annotations

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.identified import is_of
from trace_lens.checks.oidc.case import OidcCase, values_of
from trace_lens.common.findings import Side
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Person, say
from trace_lens.oidc.jose import JoseDamaged, read_jws
from trace_lens.oidc.tokens import NoClaims, read_token

_NAMES = ("email", "preferred_username", "upn", "login", "sub")


@check("subject-missing")
def subject_of_token(case: OidcCase) -> Answer:
    """Does the token name a subject, also where the account is found by another claim?"""
    if case.token and case.subject is None and case.account_source != case.subject_label:
        yield finding(
            "subject-missing",
            "The token names no subject (sub), which every ID token must.",
            side=Side.PROVIDER,
            expected="sub",
            evidence=case.of_token("iss", "iss"),
        )


@check("subject-differs")
def one_subject(case: OidcCase) -> Answer:
    """Do userinfo and the other tokens speak of the same subject (OpenID Connect Core 1.0 §5.3.2)?"""
    subject = case.subject
    if subject is None:
        return
    others = [message for message in case.attempt.messages if message.kind in ("userinfo", "id-token", "introspection")]
    for other in others:
        value = other.get("sub")
        if other is case.judged or value is None or value == subject.value or other.named == "id_token_hint":
            continue
        yield finding(
            "subject-differs",
            say(
                "The {replace} speaks of {value}, the token of {subject_value}: its claims must not be used.",
                replace=other.kind.replace("-", " "),
                value=value,
                subject_value=subject.value,
            ),
            expected=subject.value,
            actual=value,
            evidence=[
                *case.shown(
                    other,
                    "sub",
                    values_of(value),
                    Location(field="payload /sub") if other.token else Location(path="/sub"),
                ),
                *subject.shown("sub"),
            ],
        )
        return


@check("other-user-answered")
def who_was_asked_for(case: OidcCase) -> Answer:
    """Is the answer about the person that was asked for?"""
    subject = case.subject
    wanted = case.asked("login_hint")
    if subject is None:
        return
    names = {name: case.claim(name) for name in _NAMES}
    answered = {name: str(value) for name, value in names.items() if isinstance(value, str) and value}
    comparable = {name: value for name, value in answered.items() if name != "sub" or "@" in value}
    if wanted and comparable and not is_of(case, wanted, answered.values()):
        name, value = next(iter(comparable.items()))
        if "@" in wanted or "@" not in value:
            yield finding(
                "other-user-answered",
                say(
                    "Asked for was {wanted}; the answer is about {value}: an open session of somebody else was used.",
                    wanted=Person(wanted),
                    value=Person(value),
                ),
                expected=Person(wanted),
                actual=Person(value),
                evidence=[*case.parameter(case.attempt.request, "login_hint"), *case.evidence_of(name)],
            )
            return
    hinted = _hinted(case.asked("id_token_hint"))
    if hinted and hinted != subject.value:
        yield finding(
            "other-user-answered",
            say(
                "Asked for was the session of {hinted}; the answer is about {subject_value}.",
                hinted=Person(hinted),
                subject_value=subject.value,
            ),
            expected=Person(hinted),
            actual=subject.value,
            evidence=[*case.parameter(case.attempt.request, "id_token_hint"), *subject.shown("sub")],
        )


def _hinted(text: str | None) -> str | None:
    """The subject of the ID token that a request gives as a hint."""
    try:
        return read_token(read_jws(text)).text("sub") if text else None
    except (JoseDamaged, NoClaims):
        return None


@check("email-unverified")
def email_vouched_for(case: OidcCase) -> Answer:
    """Does the provider vouch for the address that the account is found by (OpenID Connect Core 1.0 §5.1)?"""
    if case.account_source.casefold() not in ("email", "mail"):
        return
    vouched = case.claim("email_verified")
    if vouched is False or (isinstance(vouched, str) and vouched.casefold() == "false"):
        yield finding(
            "email-unverified",
            say(
                "The account is found by {account_source}, and the provider does not vouch for the "
                "address (email_verified is false): anybody may have entered it.",
                account_source=case.account_source,
            ),
            actual="false",
            evidence=[*case.evidence_of("email_verified"), *case.evidence_of(case.account_source)],
        )


@check("subject-unstable")
def stable(case: OidcCase) -> Answer:
    """Is the subject the same for all applications, where accounts are found by it (OpenID Connect Core 1.0 §8)?"""
    if case.app is None or case.account_source != "sub" or case.subject is None:
        return
    told = case.app.settings.application.oidc.subject_type
    listed = case.provider.discovery.get("subject_types_supported") if case.provider else None
    if told == "pairwise" or (told is None and listed == ["pairwise"]):
        yield finding(
            "subject-unstable",
            "The account is found by a pairwise sub, which is made for this one client: with another client_id, or "
            "another sector, everybody is somebody new.",
            actual=case.subject.value,
            evidence=case.subject.shown("sub"),
        )


CHECKS = (
    subject_of_token,
    one_subject,
    who_was_asked_for,
    email_vouched_for,
    stable,
)
