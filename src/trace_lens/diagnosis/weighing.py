"""Findings weighed against each other: what is proven before what is inferred, what was seen before what is predicted.

The checks answer one question each and know nothing of each other. Here a seen success outranks what the record
predicts, a proven break outranks an inferred one, and each break says how certain it is.
"""

from __future__ import annotations

from trace_lens.attempts.journeys import CALLED, Way
from trace_lens.checks.case import Case
from trace_lens.checks.logged import let_in_by_log
from trace_lens.checks.protocols import of_oidc
from trace_lens.checks.way.parties import APPLICATION, REQUESTS, parties
from trace_lens.checks.way.said import SYMPTOMS, refusal_page, with_pages
from trace_lens.checks.way.signs import outcome_of, shown_in, shown_signs
from trace_lens.common.findings import INFERRED, PROVEN, Evidence, Finding, Severity, Stage, certainty_of
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.exchanges import forms_of

ATTACKS = (
    "signature-wrapping",
    "duplicate-id",
    "not-signed",
    "algorithm-none",
    "algorithm-confusion",
    "signed-by-untrusted-key",
    "replayed-message",
)
"""Breaks that a success does not make harmless: somebody may be in who should not be."""
AFTERWARDS = ("api-refused", "refresh-refused", "sign-out-unmatched")
"""What comes after the sign-in: it says nothing against it, and a sign-in says nothing against it."""
OF_THE_RECORD = (
    "destination-mismatch",
    "recipient-mismatch",
    "redirect-uri-mismatch",
    "acs-not-registered",
    "identifier-in-request-unknown",
    "unsolicited-not-accepted",
    "request-unsigned",
    "signed-part-wrong",
    "signature-value-invalid",
    "signed-by-other-known-key",
    "fingerprint-mismatch",
    "key-id-unknown",
    "algorithm-unexpected",
    "certificate-damaged",
    "certificate-expired",
    "issuer-mismatch",
    "audience-mismatch",
    "authorized-party-mismatch",
    "discovery-issuer-mismatch",
    "name-id-format-mismatch",
    "account-not-found",
    "account-near-match",
    "account-ambiguous",
    "account-disabled",
    "account-not-federated",
    "account-creation-blocked",
    "subject-missing",
    "claim-missing",
    "claim-empty",
    "claim-name-near-match",
    "claim-value-not-allowed",
    "groups-left-out",
    "group-style-mismatch",
    "scope-not-granted",
    "not-assigned",
    "assurance-too-low",
    "authentication-too-old",
    "authentication-time-missing",
    "client-secret-expired",
    "encrypted-to-other-key",
    "decryption-failed",
    "wrong-binding",
    "code-challenge-missing",
    "other-user-answered",
    "consent-missing",
)
"""Breaks that follow from a value on record: where the user was let in all the same, the record is in doubt."""
_OF_THE_WAY = (
    "session-cookie-lost",
    "redirect-loop",
    "http-error",
    "blocked-by-browser",
    "session-not-started",
    "no-answer",
    "host-changed",
)
"""What the way itself shows: beside a session that began it is a nuisance, no break."""


def weigh(case: Case, findings: list[Finding]) -> list[Finding]:
    """The findings, weighed: with what pages say, each with its certainty, and a seen success before predictions."""
    found = [_certain(page) for page in with_pages(case, findings)]
    if outcome_of(case).only_tokens:
        return [_certain(finding) for finding in _outranked(case, _proven_first(case, found), borne_out=True)]
    if _seen_in(case):
        return [_certain(finding) for finding in _outranked(case, found)]
    if any(finding.code in _OF_REQUEST and finding.breaks for finding in found) and _went_on(case):
        found = [
            finding._replace(severity=Severity.RISK) if _is_of_request(case, finding) else finding for finding in found
        ]
    return [_certain(finding) for finding in _proven_first(case, found)]


_OF_REQUEST = (
    "identifier-in-request-unknown",
    "acs-not-registered",
    "redirect-uri-mismatch",
    "request-unsigned",
    "code-challenge-missing",
    "wrong-binding",
)
"""Faults of a request for which a provider would refuse it at once."""


def _is_of_request(case: Case, finding: Finding) -> bool:
    """Whether a finding is of the request that the provider took, not of what came after it."""
    if finding.code == "redirect-uri-mismatch" and of_oidc(case):
        return finding.actual == case.asked("redirect_uri")
    if finding.code == "wrong-binding" and case.protocol == "oidc":
        return outcome_of(case).let_in is not False
    return finding.code in _OF_REQUEST


def _went_on(case: Case) -> bool:
    """Whether the way shows that the provider took the request: it asked for a password, answered without an error, or
    the browser came back to the application; and shows no page on which it refused.
    """
    way: Way | None = case.attempt.way
    if way is None or case.refused or refusal_page(case):
        return False
    asked = next((hop for hop in way.hops if set(hop.kinds) & set(REQUESTS)), None)
    if asked is None:
        return False
    sides = parties(case)
    return case.attempt.kind == "answer" or any(
        any(form.asks_password for form in forms_of(hop.exchange)) or sides.side_of(hop.exchange) == APPLICATION
        for hop in way.after(asked)
        if hop.how != CALLED
    )


def _certain(finding: Finding) -> Finding:
    """A break is proven unless it says otherwise; what is no break has no certainty."""
    if finding.breaks and finding.certainty:
        return finding
    return finding._replace(certainty=certainty_of(finding.severity))


def _seen_in(case: Case) -> bool:
    """Whether the way, or the application's own log by an id, shows that the user was let in."""
    if shown_in(case):
        return True
    logged = let_in_by_log(case)
    if logged is None or logged.probability < 0.9 or "id" not in logged.because:
        return False
    return outcome_of(case).let_in is not False


def _proven_first(case: Case, findings: list[Finding]) -> list[Finding]:
    """An inferred break is a risk where a proven one explains the failure, or an answer or a page names another
    cause.
    """
    proven = [finding for finding in findings if finding.breaks and finding.certainty == PROVEN and _explains(finding)]
    made = []
    for raised in findings:
        explained = case.refused or any(other.code not in _SHOWN_BY.get(raised.code, ()) for other in proven)
        yields = raised.breaks and raised.certainty == INFERRED and raised.code not in AFTERWARDS and explained
        made.append(raised._replace(severity=Severity.RISK) if yields else raised)
    return made


_SHOWN_BY = {"code-too-old": ("token-request-refused",)}
"""What shows an inferred break, and so is no other cause."""


def _explains(finding: Finding) -> bool:
    """Whether a break says why: all do but the symptoms, unless one names the cookie that never sticks."""
    return finding.code not in SYMPTOMS or (finding.code == "session-not-started" and finding.value_to_set is not None)


def _outranked(case: Case, findings: list[Finding], *, borne_out: bool = False) -> list[Finding]:
    """The user was let in: what was predicted is a risk, beside it what that means.

    With `borne_out` only what the application's own request says otherwise than the record: a page that got tokens may
    still have refused them.
    """
    asked = _asked(case)
    made: list[Finding] = []
    doubtful: list[Finding] = []
    lenient: list[Finding] = []
    for raised in findings:
        if (
            not raised.breaks
            or raised.code in AFTERWARDS
            or raised.stage is Stage.SETTINGS
            or (borne_out and not (raised.code in OF_THE_RECORD and raised.actual in asked))
        ):
            made.append(raised)
        elif raised.code in ATTACKS:
            made.append(raised)
            lenient.append(raised)
        else:
            stale = _rests_on_record(case, raised)
            # What would make the sign-in fit a stale record is no repair.
            made.append(raised._replace(severity=Severity.RISK, value_to_set=None if stale else raised.value_to_set))
            if raised.code not in _OF_THE_WAY and raised.stage is not Stage.REACHABLE:
                (doubtful if stale else lenient).append(raised)
    if doubtful:
        made.append(_contradicted(case, doubtful))
    if lenient:
        made.append(_too_lenient(case, lenient))
    return made


def _rests_on_record(case: Case, finding: Finding) -> bool:
    """Whether a finding follows from a value on record that nothing in the capture itself bears out."""
    if finding.code not in OF_THE_RECORD:
        return False
    asked = _asked(case)
    return not (finding.expected is not None and finding.expected in asked)


def _asked(case: Case) -> set[str]:
    """What the application itself says of itself in its request: identifier, address, what it asked for."""
    request = getattr(case, "request", None)
    if of_oidc(case):
        names = ("client_id", "redirect_uri", "nonce", "scope")
        asked = {value for name in names if request and (value := case.asked(name))}
        redeemed = case.attempt.of("token-request")
        return asked | {value for one in redeemed for name in names[:2] if (value := one.get(name))}
    if request is None:
        return set()
    held = (request.issuer.value if request.issuer else None, request.acs_url.value if request.acs_url else None)
    return {value for value in held if value}


def _beside(case: Case) -> list[Evidence]:
    logged = let_in_by_log(case)
    signs = shown_signs(case, outcome_of(case).favouring)
    if not signs and logged:
        event = logged.event
        return [Evidence("log event", event.outcome or "success", event.file, Location(line=event.line))]
    return signs


def _contradicted(case: Case, doubtful: list[Finding]) -> Finding:
    codes = tuple(dict.fromkeys(finding.code for finding in doubtful))
    first = doubtful[0]
    name = case.app.name if case.app else "The application"
    values = (
        say(": on record is {expected}, the sign-in used {actual}", expected=first.expected, actual=first.actual)
        if first.expected and first.actual
        else ""
    )
    made = finding(
        "record-contradicted",
        say(
            "{name} let the user in, although the settings on record say that it cannot ({listed}){values}.",
            name=name,
            listed=_listed(codes),
            values=values,
        ),
        expected=first.expected,
        actual=first.actual,
        value_to_set=first.actual if first.expected and first.value_to_set == first.expected else None,
        evidence=[*first.evidence[:2], *_beside(case)],
        compared=False,
    )
    return made._replace(overrules=codes)


def _too_lenient(case: Case, lenient: list[Finding]) -> Finding:
    codes = tuple(dict.fromkeys(finding.code for finding in lenient))
    name = case.app.name if case.app else "The application"
    made = finding(
        "application-too-lenient",
        say(
            "{name} let the user in, although this message must be refused ({listed}): {lower}",
            name=name,
            listed=_listed(codes),
            lower=_lower(lenient[0].detail),
        ),
        evidence=_beside(case),
        reference=lenient[0].reference,
    )
    return made._replace(overrules=codes)


def _listed(codes: tuple[str, ...]) -> str:
    return ", ".join(codes)


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:] if text[:2].istitle() else text
