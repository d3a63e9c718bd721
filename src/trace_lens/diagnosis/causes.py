"""Which break is the effect of which: one table, walked once for each diagnosis.

A finding that another explains says so (`because_of`) and is never the first break.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import TYPE_CHECKING, Any

from trace_lens.checks.case import Case
from trace_lens.checks.protocols import of_oidc, of_saml
from trace_lens.common import catalogue
from trace_lens.common.findings import Finding, Severity
from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase

_When = Callable[[Any, Finding, Finding], bool]


def _always(case: Case, cause: Finding, effect: Finding) -> bool:
    return True


def _same_value(case: Case, cause: Finding, effect: Finding) -> bool:
    return cause.actual == effect.actual


def _same_claim(case: Case, cause: Finding, effect: Finding) -> bool:
    return cause.expected == effect.expected


def _of_the_other_provider(case: SamlCase | OidcCase, cause: Finding, effect: Finding) -> bool:
    """The message is another provider's on record, and (where it verifies at all) good under that one's own key."""
    other = case.other_provider
    if of_saml(case):
        keys = [verdict.key for verdict in case.signed.own if verdict.key]
        return other is not None and all(key.held_by != "published" or key.owner == other.name for key in keys)
    key = case.verdict.key if of_oidc(case) and case.verdict else None
    return other is not None and (key is None or key.owner == other.name)


def _no_pin_usable(case: SamlCase, cause: Finding, effect: Finding) -> bool:
    return not case.signed.trusted or cause.severity is Severity.BREAK


def _about_groups(case: Case, cause: Finding, effect: Finding) -> bool:
    claims = case.app.settings.claims if case.app else ()
    return any(claim.means != "plain" and claim.name == effect.expected for claim in claims)


def _later_session(case: Case, cause: Finding, effect: Finding) -> bool:
    return (effect.expected or "") >= (cause.expected or "")


def _fits_error(case: Case, cause: Finding, effect: Finding) -> bool:
    """Whether the error of the token endpoint is one for this fault (RFC 6749 §5.2): of the client, or the grant."""
    of_client = cause.code in ("client-secret-expired", "identifier-in-request-unknown")
    if effect.actual in ("invalid_client", "unauthorized_client"):
        return of_client
    return not (effect.actual == "invalid_grant" and of_client)


class Rule(NamedTuple):
    """`effect` is explained by any of `causes` (the first that is there), where `when` holds."""

    effect: str
    causes: tuple[str, ...]
    when: _When = _always


_REQUEST_FAULTS = (
    "acs-not-registered",
    "identifier-in-request-unknown",
    "request-unsigned",
    "wrong-binding",
    "destination-mismatch",
)


def _refused_request(case: SamlCase | OidcCase, cause: Finding, effect: Finding) -> bool:
    """The fault lies in the request, and the provider answered it with an error."""
    return case.request is not None and case.refused


def _needs_scope(case: OidcCase, cause: Finding, effect: Finding) -> bool:
    """The claim that is lacking follows from a scope that was not granted."""
    from trace_lens.checks.oidc.entitled import scope_for

    return effect.expected is not None and scope_for(case, effect.expected) in (cause.expected or "").split()


_TOKEN_REQUEST_FAULTS = (
    "redirect-uri-mismatch",
    "code-verifier-mismatch",
    "code-challenge-missing",
    "code-reused",
    "code-too-old",
    "client-secret-expired",
    "identifier-in-request-unknown",
    "response-issuer-mismatch",
)
_TOKEN_EFFECTS = (
    "malformed-message",
    "nonce-mismatch",
    "audience-mismatch",
    "audience-missing",
    "authorized-party-mismatch",
    "authentication-time-missing",
    "authentication-too-old",
    "subject-missing",
    "account-not-found",
    "account-near-match",
    "account-creation-blocked",
    "claim-missing",
    "claim-empty",
    "claim-name-near-match",
    "scope-not-granted",
    "assurance-too-low",
    "not-assigned",
    "algorithm-unexpected",
    "token-hash-mismatch",
)
"""What follows where another token stands in the place of the ID token."""
_UNVERIFIED = (
    "signed-by-other-known-key",
    "signed-by-untrusted-key",
    "signature-value-invalid",
    "algorithm-confusion",
)
OIDC_RULES: tuple[Rule, ...] = (
    Rule("token-request-refused", _TOKEN_REQUEST_FAULTS, _fits_error),
    Rule("refresh-refused", ("client-secret-expired",)),
    Rule("request-rejected", ("redirect-uri-mismatch", "code-challenge-missing")),
    Rule("provider-refused", ("redirect-uri-mismatch", "code-challenge-missing")),
    *(Rule(effect, ("wrong-token-kind",)) for effect in _TOKEN_EFFECTS),
    Rule("scope-not-granted", ("consent-missing",)),
    *(
        Rule(effect, ("scope-not-granted",), _needs_scope)
        for effect in ("claim-missing", "claim-name-near-match", "subject-missing", "account-creation-blocked")
    ),
    Rule("key-id-unknown", ("issuer-mismatch",), _of_the_other_provider),
    Rule("algorithm-unexpected", ("issuer-mismatch",), _of_the_other_provider),
    Rule("signature-value-invalid", ("capture-truncated",)),
    Rule("key-id-unknown", ("capture-truncated", *_UNVERIFIED)),
    Rule("issuer-mismatch", ("discovery-issuer-mismatch", "response-issuer-mismatch"), _same_value),
    Rule("audience-mismatch", ("identifier-in-request-unknown",), _same_value),
    Rule("authorized-party-mismatch", ("audience-mismatch",)),
    Rule("code-verifier-mismatch", ("state-mismatch",)),
    Rule("nonce-mismatch", ("state-mismatch",)),
)

RULES: tuple[Rule, ...] = (
    Rule("request-rejected", _REQUEST_FAULTS, _refused_request),
    Rule("provider-refused", _REQUEST_FAULTS, _refused_request),
    Rule("recipient-mismatch", ("destination-mismatch",), _same_value),
    Rule("subject-confirmation-invalid", ("malformed-message",)),
    Rule("digest-mismatch", ("signature-wrapping", "duplicate-id")),
    Rule("not-signed", ("signature-wrapping", "duplicate-id")),
    Rule("signed-part-wrong", ("signature-wrapping", "duplicate-id", "digest-mismatch", "signature-form-refused")),
    Rule("signature-form-refused", ("duplicate-id", "signature-wrapping")),
    Rule("signed-by-other-known-key", ("issuer-mismatch",), _of_the_other_provider),
    Rule("signed-by-untrusted-key", ("issuer-mismatch",), _of_the_other_provider),
    Rule("signature-value-invalid", ("issuer-mismatch",), _of_the_other_provider),
    Rule("fingerprint-mismatch", ("issuer-mismatch",), _of_the_other_provider),
    Rule("signed-by-other-known-key", ("certificate-damaged",), _no_pin_usable),
    Rule("signed-by-untrusted-key", ("certificate-damaged",), _no_pin_usable),
    Rule("signature-value-invalid", ("certificate-damaged",), _no_pin_usable),
    Rule("no-trusted-key", ("certificate-damaged",), _no_pin_usable),
    Rule("expired", ("window-empty",)),
    Rule("not-yet-valid", ("window-empty",)),
    Rule("issued-in-future", ("not-yet-valid",)),
    Rule("session-expired", ("expired",), _later_session),
    Rule("account-not-found", ("name-id-format-mismatch",)),
    Rule("account-near-match", ("name-id-format-mismatch",)),
    Rule("subject-unstable", ("name-id-format-mismatch",)),
    Rule("account-creation-blocked", ("claim-missing", "claim-empty", "claim-name-near-match"), _same_claim),
    Rule("claim-missing", ("subject-missing",), _same_claim),
    Rule("claim-empty", ("subject-missing",), _same_claim),
    Rule("claim-name-near-match", ("subject-missing",), _same_claim),
    Rule("claim-missing", ("groups-left-out",), _about_groups),
    Rule("claim-empty", ("groups-left-out",), _about_groups),
    Rule("not-assigned", ("groups-left-out", "subject-missing", "name-id-format-mismatch")),
)


_SYMPTOMS = ("no-answer", "redirect-loop", "http-error", "session-not-started", "api-refused")
_OF_REQUEST = (
    "capture-truncated",
    "malformed-message",
    "request-rejected",
    "destination-mismatch",
    "acs-not-registered",
    "redirect-uri-mismatch",
    "code-challenge-missing",
    "blocked-by-browser",
    "identifier-in-request-unknown",
    "request-unsigned",
    "wrong-binding",
)


_REACHABLE = (
    "name-not-resolved",
    "port-unreachable",
    "tls-refused",
    "tls-untrusted",
    "tls-name-mismatch",
    "tls-certificate-expired",
)


@cache
def way_rules() -> tuple[Rule, ...]:
    """What shows on the way is the effect of whatever says more: any break but those that only tell how it ended."""
    more = tuple(
        entry.code for entry in catalogue.everything() if entry.code not in _SYMPTOMS and entry.stage != "settings"
    )
    return (
        Rule("no-answer", (*_REACHABLE, *_OF_REQUEST, "not-assigned", "provider-log-refused", "account-disabled")),
        Rule("redirect-loop", (*more, "session-not-started")),
        Rule("http-error", (*more, "no-answer")),
        Rule("session-not-started", (*more, "http-error")),
        Rule("host-changed", ("session-cookie-lost",)),
    )


_REFUSED = (
    *_OF_REQUEST,
    "provider-refused",
    "token-request-refused",
    "client-secret-expired",
    "consent-missing",
    "not-assigned",
)


@cache
def log_rules() -> tuple[Rule, ...]:
    """A side that refuses does so for whatever reason was found."""
    more = [entry.code for entry in catalogue.everything() if entry.stage != "settings"]
    reasons = tuple(code for code in more if code not in (*_SYMPTOMS, "application-refused"))
    return (Rule("application-refused", reasons), Rule("provider-log-refused", _REFUSED))


_ENDINGS = ("application-refused", "provider-log-refused", "http-error", "session-not-started")


def explain(case: Case, findings: list[Finding]) -> list[Finding]:
    """The findings, each with the code of the break that explains it, where one does.

    What only tells how it ended points to where it began, not to another effect of that.
    """
    breaks = {finding.code: finding for finding in reversed(findings) if finding.breaks}
    causes = {id(finding): _cause(case, finding, breaks) for finding in findings}
    explained = []
    for finding in findings:
        cause = causes[id(finding)]
        for _ in breaks if finding.code in _ENDINGS else ():
            further = causes[id(breaks[cause])] if cause in breaks else None
            if further in (None, finding.code):
                break
            cause = further
        explained.append(finding._replace(because_of=cause) if cause else finding)
    return explained


def _cause(case: Case, effect: Finding, breaks: dict[str, Finding]) -> str | None:
    of_protocol = OIDC_RULES if case.protocol == "oidc" else ()
    for rule in (*of_protocol, *(way_rules() if case.attempt.way else ()), *(log_rules() if case.logs else ()), *RULES):
        if rule.effect != effect.code:
            continue
        for code in rule.causes:
            cause = breaks.get(code)
            if cause and cause is not effect and rule.when(case, cause, effect):
                return code
    return None
