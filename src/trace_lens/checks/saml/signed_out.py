"""Sign-outs: logout messages judged as sign-in messages are, and held against the sign-in whose session they end.

Beside a sign-in in the same capture nothing here breaks that sign-in, so what is wrong is told as a risk; a sign-out by
itself breaks. Sources: SAML 2.0 Core §3.7; Profiles §4.4.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from trace_lens.attempts.saml_messages import SamlMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest, differs
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.decrypted import open_one
from trace_lens.checks.saml.signed import Verdict, judge_message
from trace_lens.common.findings import Allows, Evidence, Severity, Side, Unchecked, lack
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.messages import LogoutRequest, LogoutResponse, NameID
from trace_lens.saml.names import SUCCESS, short
from trace_lens.saml.reading import read_name_id
from trace_lens.saml.statuses import meaning_of

_UNMATCHED = "sign-out-unmatched"


def _messages(case: SamlCase) -> Iterator[tuple[SamlMessage, LogoutRequest | LogoutResponse]]:
    for message in case.attempt.sign_out:
        if isinstance(message.content, LogoutRequest | LogoutResponse):
            yield message, message.content


def _severity(case: SamlCase, alone: Severity = Severity.BREAK) -> Severity:
    return Severity.RISK if case.attempt.answer else alone


def _by_application(case: SamlCase, content: LogoutRequest | LogoutResponse) -> bool:
    """Whether the application sent it: by its issuer, else by whose address it is made out to."""
    issuer = content.issuer.value.strip() if content.issuer else None
    if case.app and issuer is not None and issuer == (case.app.entity_id or "").strip():
        return True
    if case.provider and issuer in case.provider.identifiers:
        return False
    target = content.destination.value if content.destination else None
    return bool(case.provider and target in case.provider.sign_out_urls)


def _what(content: LogoutRequest | LogoutResponse) -> str:
    return "logout request" if isinstance(content, LogoutRequest) else "logout response"


def _shown(case: SamlCase, message: SamlMessage, content: LogoutRequest | LogoutResponse) -> list[Evidence]:
    return case.shown(f"ID of the {_what(content)}", content.id, message)


@check("destination-mismatch", requires=Need.SIGN_OUT)
def addressed(case: SamlCase) -> Answer:
    """Is each logout message addressed to the other side's sign-out URL (Core §3.2.1)?"""
    for message, content in _messages(case):
        if content.destination is None:
            continue
        outgoing = _by_application(case, content)
        if outgoing:
            known = case.provider.sign_out_urls if case.provider else ()
        else:
            known = case.app.sign_out_urls if case.app else ()
        if not known:
            whose = "provider" if outgoing else "application"
            yield Unchecked("destination-mismatch", f"no sign-out URL of the {whose} is on record")
            continue
        actual = content.destination.value
        expected = closest(actual, known)
        severity = differs(expected, actual)
        if severity:
            yield finding(
                "destination-mismatch",
                say(
                    "The {what} is addressed to {actual}, which is no sign-out URL of the {words}.",
                    what=_what(content),
                    actual=actual,
                    words="provider" if outgoing else "application",
                ),
                severity=_severity(case, severity),
                side=Side.APPLICATION if outgoing else Side.PROVIDER,
                expected=expected,
                actual=actual,
                value_to_set=expected,
                evidence=case.shown("Destination", content.destination, message),
            )


@check("response-to-unknown-request", requires=Need.SIGN_OUT)
def answers_request(case: SamlCase) -> Answer:
    """Does a logout response name the logout request that was sent?"""
    sent = [content for _, content in _messages(case) if isinstance(content, LogoutRequest)]
    ids = {request.id.value for request in sent if request.id}
    for message, content in _messages(case):
        if not isinstance(content, LogoutResponse) or not sent or not content.in_response_to:
            continue
        if content.in_response_to.value not in ids:
            yield finding(
                "response-to-unknown-request",
                say(
                    "The logout response is to {in_response_to_value}; the request sent was {ids}.",
                    in_response_to_value=content.in_response_to.value,
                    ids=", ".join(sorted(ids)),
                ),
                severity=_severity(case),
                expected=", ".join(sorted(ids)),
                actual=content.in_response_to.value,
                evidence=case.shown("InResponseTo", content.in_response_to, message),
                compared=False,
            )


_WITHOUT_A_KEY = ("signature-form-refused", "digest-mismatch")


def _wrong_with(verdict: Verdict) -> tuple[str, str] | None:
    """The code and the words for a signature that is not good; None for one by a trusted key."""
    if verdict.signature.refused:
        return "signature-form-refused", say("must not be accepted: {refused}", refused=verdict.signature.refused)
    if not verdict.digest_holds:
        return "digest-mismatch", "covers other content than what is here"
    if verdict.standing == "trusted":
        return None
    if verdict.standing in ("known", "published"):
        words = verdict.key.words if verdict.key else "another"
        return "signed-by-other-known-key", say("is by {key_words}", key_words=words)
    if verdict.standing == "embedded":
        return "signed-by-untrusted-key", "holds only with the certificate that came inside it"
    return "signature-value-invalid", "was made by no key on record"


@check("signature-value-invalid", "sign-out-unmatched", requires=Need.SIGN_OUT)
def signature(case: SamlCase) -> Answer:
    """Is each logout message signed, by a key of its sender (Profiles §4.4.4.1)?"""
    for message, content in _messages(case):
        outgoing = _by_application(case, content)
        verdicts = judge_message(message, case.keys_of_application if outgoing else case.keys)
        if not verdicts:
            yield finding(
                _UNMATCHED,
                say(
                    "The {what} is not signed, so whoever receives it may refuse it, or believe anybody.",
                    what=_what(content),
                ),
                side=Side.APPLICATION if outgoing else Side.PROVIDER,
                evidence=_shown(case, message, content),
            )
        for verdict in verdicts:
            where = Evidence(
                f"Signature of the {_what(content)}",
                verdict.signature.algorithm_uri or "",
                message.source,
                message.place.then(verdict.place),
                exchange=message.exchange,
            )
            wrong = _wrong_with(verdict)
            if wrong is None:
                continue
            code, detail = wrong
            if code not in _WITHOUT_A_KEY and not trusted_of(case, outgoing=outgoing):
                whose = "the application" if outgoing else "the provider"
                yield Unchecked(
                    "signature-value-invalid", f"no key of {whose} is on record", decides=case.attempt.answer is None
                )
                continue
            yield finding(
                code,
                say("The signature of the {what} {detail}.", what=_what(content), detail=detail),
                severity=_severity(case),
                side=Side.APPLICATION if outgoing else Side.PROVIDER,
                evidence=[where],
            )


def trusted_of(case: SamlCase, *, outgoing: bool) -> bool:
    """Whether any key is on record to judge the messages of a side by."""
    if outgoing:
        return bool(case.app and case.app.role and case.app.role.signing_keys)
    return bool(case.keys.trusted)


@check("issuer-mismatch", requires=Need.SIGN_OUT)
def sender(case: SamlCase) -> Answer:
    """Is each logout message by one of the two sides?"""
    if case.app is None:
        yield Unchecked("issuer-mismatch", "no application is known for this sign-out", case.attempt.answer is None)
        return
    known = [name for name in (case.app.entity_id, *(case.provider.identifiers if case.provider else ())) if name]
    set_in_app = case.app.settings.application.saml.provider_entity_id
    known += [set_in_app] if set_in_app else []
    for message, content in _messages(case):
        if content.issuer is None or not known or content.issuer.value in known:
            continue
        expected = closest(content.issuer.value, known)
        yield finding(
            "issuer-mismatch",
            say(
                "The {what} is by {issuer_value}, which is neither {app_name} nor its provider.",
                what=_what(content),
                issuer_value=content.issuer.value,
                app_name=case.app.name,
            ),
            severity=_severity(case, differs(expected, content.issuer.value) or Severity.BREAK),
            expected=expected,
            actual=content.issuer.value,
            evidence=case.shown("Issuer", content.issuer, message),
        )


@check("expired", requires=Need.SIGN_OUT)
def in_time(case: SamlCase) -> Answer:
    """Did each logout request come before its end (Core §3.7.1)?"""
    skew = case.app.clock_skew if case.app else case.workspace.settings.judgement.clock_skew or timedelta(minutes=3)
    for message, content in _messages(case):
        end = content.not_on_or_after if isinstance(content, LogoutRequest) else None
        at = case.at if case.attempt.answer is None or case.at_from == "option" else None
        at = at or (content.issue_instant.moment if content.issue_instant else None)
        if end and end.moment and at and at >= end.moment + skew:
            yield finding(
                "expired",
                say("The logout request ended {at} before it was judged.", at=show_duration(at - end.moment)),
                severity=_severity(case),
                expected=f"before {show_moment(end.moment)}",
                actual=show_moment(at),
                evidence=case.shown("NotOnOrAfter", end, message),
                compared=False,
            )


@check(_UNMATCHED, requires=Need.SIGN_OUT)
def session_known(case: SamlCase) -> Answer:
    """Does each logout request name the subject and the session of the sign-in, and is it answered with Success?"""
    found = list(_messages(case))
    for message, content in found:
        if isinstance(content, LogoutRequest):
            yield from _names_session(case, message, content)
            yield from _answered(case, message, content, [other for _, other in found])
        else:
            yield from _status(case, message, content)


def _names_session(case: SamlCase, message: SamlMessage, content: LogoutRequest) -> Answer:
    if case.assertion is None:
        yield Unchecked(_UNMATCHED, lack("the sign-in whose session it ends is not in this capture", Allows.RECORDING))
        return
    name = _name_of(case, content)
    if name is None and content.encrypted_id is not None:
        yield Unchecked(_UNMATCHED, "the name in the logout request is encrypted and could not be opened")
    elif name is None or case.name_id is None or not _same_name(name, case.name_id):
        actual = name.value if name else None
        expected = case.name_id.value if case.name_id else None
        how = " of another format" if name and actual == expected else ""
        yield finding(
            _UNMATCHED,
            say(
                "The logout request is about {actual}{how}; the sign-in was that of {expected}.",
                actual=actual or "nobody",
                how=how,
                expected=expected,
            ),
            side=Side.APPLICATION if _by_application(case, content) else Side.PROVIDER,
            expected=expected,
            actual=actual,
            evidence=[*case.shown("NameID", name, message), *case.shown("NameID of the sign-in", case.name_id)],
        )
    opened = {statement.session_index.value for statement in case.assertion.authn_statements if statement.session_index}
    stray = next((index for index in content.session_indexes if index.value not in opened), None)
    if stray and opened:
        yield finding(
            _UNMATCHED,
            say(
                "The logout request ends the session {stray_value}; the sign-in opened {opened}.",
                stray_value=stray.value,
                opened=", ".join(sorted(opened)),
            ),
            side=Side.APPLICATION if _by_application(case, content) else Side.PROVIDER,
            expected=", ".join(sorted(opened)),
            actual=stray.value,
            evidence=case.shown("SessionIndex", stray, message),
            compared=False,
        )


def _name_of(case: SamlCase, content: LogoutRequest) -> NameID | None:
    if content.name_id or content.encrypted_id is None:
        return content.name_id
    opened = open_one(content.encrypted_id, case.app, case.workspace).root
    return None if opened is None else read_name_id(opened)


def _same_name(left: NameID, right: NameID) -> bool:
    """Whether two names are one: value, format and qualifiers agree, a missing one counting as any (Core §3.7.3.2)."""

    def agree(text: str | None, other: str | None) -> bool:
        return text is None or other is None or text == other

    return (
        left.value == right.value
        and (not (left.format_given and right.format_given) or left.format == right.format)
        and agree(left.name_qualifier, right.name_qualifier)
        and agree(left.sp_name_qualifier, right.sp_name_qualifier)
    )


def _answered(
    case: SamlCase, message: SamlMessage, content: LogoutRequest, others: list[LogoutRequest | LogoutResponse]
) -> Answer:
    answers = [other for other in others if isinstance(other, LogoutResponse)]
    if answers:
        return
    if case.attempt.answer is None and len(others) == 1:
        yield Unchecked(_UNMATCHED, lack("the answer to the logout request is not in this capture", Allows.RECORDING))
        return
    outgoing = _by_application(case, content)
    yield finding(
        _UNMATCHED,
        say(
            "Nothing in this capture answers the logout request, so the {words} may still hold the session.",
            words="provider" if outgoing else "application",
        ),
        side=Side.PROVIDER if outgoing else Side.APPLICATION,
        evidence=_shown(case, message, content),
    )


def _status(case: SamlCase, message: SamlMessage, content: LogoutResponse) -> Answer:
    codes = content.status.codes if content.status else ()
    if codes and codes[0].value == SUCCESS and len(codes) == 1:
        return
    words = "; ".join(
        f"{short(code.value)}: {meaning.meaning}" if (meaning := meaning_of(code.value)) else short(code.value)
        for code in codes
    )
    said = content.status.message.value.strip() if content.status and content.status.message else ""
    yield finding(
        _UNMATCHED,
        say("The sign-out was not done: {words}.", words=words or "the answer has no status")
        + (say(" It adds: {quoted_at_end}", quoted_at_end=quoted_at_end(said)) if said else ""),
        side=Side.APPLICATION if _by_application(case, content) else Side.PROVIDER,
        expected=SUCCESS,
        actual=codes[-1].value if codes else None,
        evidence=case.shown("StatusCode", codes[-1] if codes else None, message),
        compared=False,
    )


CHECKS = (
    addressed,
    answers_request,
    signature,
    sender,
    in_time,
    session_known,
)
