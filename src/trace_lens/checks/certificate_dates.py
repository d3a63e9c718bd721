"""Whether the certificate that a signature is judged by was in its time at the moment of the attempt."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from trace_lens.checks.case import Case
from trace_lens.common.findings import Evidence, Finding, Severity, Stage, Unchecked
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.pki.certificates import Certificate

_STAGE = Stage.AUTHENTIC


def dates_of(
    case: Case, certificate: Certificate, what: str, evidence: Iterable[Evidence]
) -> Iterator[Finding | Unchecked]:
    """What is wrong with the dates of a certificate, told as `what`, at the moment of the attempt (RFC 5280 §4.1.2.5).

    One that has ended breaks only where the application checks dates.
    """
    if case.at is None:
        yield Unchecked("certificate-expired", "nothing tells the moment of the attempt")
        return
    strict = bool(case.app and case.app.checks_certificate_dates)
    if case.at > certificate.not_after:
        yield finding(
            "certificate-expired",
            say(
                "The {what} ended {at} before the attempt", what=what, at=show_duration(case.at - certificate.not_after)
            )
            + (", and this application refuses such certificates." if strict else "."),
            severity=Severity.BREAK if strict else Severity.RISK,
            expected=show_moment(certificate.not_after),
            actual=show_moment(case.at),
            evidence=evidence,
            compared=False,
        )
    elif case.at < certificate.not_before:
        yield finding(
            "certificate-not-yet-valid",
            say(
                "The {what} begins {not_before} after the attempt.",
                what=what,
                not_before=show_duration(certificate.not_before - case.at),
            ),
            expected=show_moment(certificate.not_before),
            actual=show_moment(case.at),
            evidence=evidence,
            compared=False,
        )
    elif case.app and certificate.not_after - case.at <= case.app.warn_before:
        yield finding(
            "certificate-expiring",
            say(
                "The {what} ends {not_after} after the attempt.",
                what=what,
                not_after=show_duration(certificate.not_after - case.at),
            ),
            actual=show_moment(certificate.not_after),
            evidence=evidence,
        )
