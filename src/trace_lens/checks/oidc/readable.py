"""Readable: the capture decodes to whole messages; the token holds what it must, and opens with the client's key."""

from __future__ import annotations

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.verified import signature_length
from trace_lens.common.findings import Evidence, Severity, Side, Unchecked
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc.tokens import ID, TIMES, Moment

_WORDS = {"jwt": "token", "jwe": "encrypted token", "id-token": "ID token"}
_AGAIN = "Capture the message again, whole and unchanged. If it is the same again, the other side sends it so."


def _whole(message: OidcMessage) -> list[Evidence]:
    return [
        Evidence(
            "the message",
            f"{len(message.found.data):,} bytes",
            message.source,
            message.place,
            exchange=message.exchange,
        )
    ]


@check("capture-truncated", "malformed-message", requires=Need.NOTHING)
def damage(case: OidcCase) -> Answer:
    """Can every message be read?"""
    main = case.attempt.main
    for message in case.attempt.messages:
        if message.damage is None:
            continue
        code, reason = message.damage
        yield finding(
            code,
            say(
                "The {get} cannot be read: {reason}.",
                get=_WORDS.get(message.kind) or message.kind.replace("-", " "),
                reason=reason,
            ),
            severity=Severity.BREAK if message is main else Severity.RISK,
            side=Side.USER,
            remedy=_AGAIN,
            evidence=_whole(message),
        )


@check("capture-truncated")
def whole_signature(case: OidcCase) -> Answer:
    """Is the token there to its end: has its signature the length that its algorithm gives it (RFC 7518 §3)?"""
    token, verdict = case.token, case.verdict
    if token is None or verdict is None or case.judged is None or verdict.key:
        return
    length, belongs = len(token.jws.signature), signature_length(token.jws, verdict)
    if 0 < length < belongs:
        yield finding(
            "capture-truncated",
            say(
                "The token stops before its end: its signature has {length} bytes where {belongs} belong.",
                length=length,
                belongs=belongs,
            ),
            expected=f"{belongs} bytes",
            actual=f"{length} bytes",
            evidence=_whole(case.judged),
            compared=False,
        )


@check("repaired-encoding", requires=Need.NOTHING)
def repairs(case: OidcCase) -> Answer:
    """Did it decode as it stood?"""
    for message in case.attempt.messages:
        if message.found.repairs:
            yield finding(
                "repaired-encoding",
                say("It decoded only after a repair: {repairs}.", repairs=", ".join(message.found.repairs)),
                evidence=[
                    Evidence(
                        "layers",
                        " → ".join(message.found.layers) or "none",
                        message.source,
                        message.place,
                        exchange=message.exchange,
                    )
                ],
            )
            return


@check("malformed-message")
def claims_there(case: OidcCase) -> Answer:
    """Does the token hold what it must (OpenID Connect Core 1.0 §2), each in the form that it must have?"""
    token = case.token
    if token is None or case.judged is None:
        return
    needed = ("iss", "exp", "iat") if token.kind == ID else ("iss", "exp")
    missing = [name for name in needed if token.claims.get(name) in (None, "")]
    if missing:
        yield finding(
            "malformed-message",
            say("The token has no {missing}, which every such token must have.", missing=" and ".join(missing)),
            side=Side.PROVIDER,
            expected=", ".join(missing),
            evidence=_whole(case.judged),
        )
    for name in TIMES:
        moment = token.moment(name)
        if moment is None or name in missing or not moment.problem:
            continue
        read = "" if moment.moment is None else "; it was read all the same"
        yield finding(
            "malformed-message",
            say("{name} has the wrong form: {problem}{read}.", name=name, problem=moment.problem, read=read),
            severity=Severity.BREAK if _refused(name, moment) else Severity.RISK,
            side=Side.PROVIDER,
            remedy=say("Write {name} as a number of seconds since 1970.", name=name),
            expected="a number of seconds since 1970",
            actual=str(moment.written),
            evidence=case.of_token(name, name),
            compared=False,
        )


def _refused(name: str, moment: Moment) -> bool:
    """Whether applications refuse a time for its form: one that bounds the token must be a number (RFC 7519 §4.1.4)."""
    if name == "updated_at":
        return False
    return moment.moment is None or (name in ("exp", "nbf") and isinstance(moment.written, str))


@check("malformed-message")
def odd_json(case: OidcCase) -> Answer:
    """Do all readers read the token alike: no name twice, no number that is not exact, no lax base64url?"""
    token = case.token
    if token is None or case.judged is None:
        return
    told = [f"{name} appears more than once, and readers differ in which one counts" for name in token.duplicates]
    told += [f"{name} is a number beyond 2^53, which many readers round" for name in token.inexact]
    told += list(token.jws.problems)
    for what in told:
        yield finding(
            "malformed-message",
            say("In the token {what}.", what=what),
            severity=Severity.RISK,
            side=Side.PROVIDER,
            remedy="Write tokens that all read alike: each name once, exact numbers, base64url without padding.",
            evidence=_whole(case.judged),
        )


@check("malformed-message", requires=Need.MESSAGE)
def parameters_once(case: OidcCase) -> Answer:
    """Does no parameter stand twice (RFC 6749 §3.1)?"""
    for message in case.attempt.messages:
        for name in message.parameters.twice if message.parameters else ():
            side = Side.PROVIDER if message.kind == "authorization-response" else Side.APPLICATION
            yield finding(
                "malformed-message",
                say(
                    "The parameter {name} appears more than once in the {replace}.",
                    name=name,
                    replace=message.kind.replace("-", " "),
                ),
                severity=Severity.RISK,
                side=side,
                remedy="Send each parameter once.",
                actual=name,
                evidence=case.parameter(message, name),
            )


@check(
    "encrypted-no-key",
    "encrypted-to-other-key",
    "decryption-failed",
    "encryption-form-refused",
    "weak-encryption",
    requires=Need.MESSAGE,
)
def opened(case: OidcCase) -> Answer:
    """Does an encrypted token open with the client's key?"""
    opening = case.opening
    if opening is None or case.judged is None:
        return
    header = opening.jwe.header
    methods = [
        Evidence(
            name,
            str(header[name]),
            case.judged.source,
            case.judged.place.then(Location(field=f"header /{name}")),
            exchange=case.judged.exchange,
        )
        for name in ("alg", "enc", "kid", "zip", "p2c")
        if name in header
    ]
    if opening.code:
        yield finding(
            opening.code,
            say("The token is encrypted and stays closed: {reason}.", reason=opening.reason),
            remedy="Encrypt to the application's current key, the one in its key set."
            if opening.code == "encrypted-to-other-key"
            else None,
            evidence=methods,
        )
        if opening.code == "encrypted-no-key":
            yield Unchecked("encrypted-no-key", opening.reason, decides=True)
    from trace_lens.oidc.encryption import weak_parts

    for weak in weak_parts(header):
        yield finding(
            "weak-encryption", say("The token is encrypted with {weak}, which is retired.", weak=weak), evidence=methods
        )


CHECKS = (
    damage,
    whole_signature,
    repairs,
    claims_there,
    odd_json,
    parameters_once,
    opened,
)
