"""Findings of a sign-in beside those of its settings: which setting explains which finding."""

from __future__ import annotations

from collections.abc import Callable

from trace_lens.agreement.keys import pinned_keys
from trace_lens.agreement.settings import STAGE, disagreements, misplaced
from trace_lens.checks.case import Case
from trace_lens.common.findings import Evidence, Finding, Side
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace.records import App, Workspace

_EXPLAINS: dict[str, Callable[[Finding], bool]] = {
    "audience-mismatch": lambda finding: _item(finding) in ("audience", "entity_id", "client_id"),
    "destination-mismatch": lambda finding: _item(finding) in ("acs_url", "acs_urls"),
    "recipient-mismatch": lambda finding: _item(finding) in ("acs_url", "acs_urls"),
    "issuer-mismatch": lambda finding: _item(finding) in ("provider_entity_id", "provider_issuer"),
    "redirect-uri-mismatch": lambda finding: _item(finding) == "redirect_uris",
    "identifier-in-request-unknown": lambda finding: _item(finding) in ("client_id", "audience", "entity_id"),
    "scope-not-granted": lambda finding: _item(finding) == "scopes_granted",
    "name-id-format-mismatch": lambda finding: _item(finding) == "name_id_format",
    "signed-by-other-known-key": lambda finding: finding.code in ("certificate-not-published", "next-key-not-pinned"),
    "fingerprint-mismatch": lambda finding: finding.code in ("certificate-not-published", "next-key-not-pinned"),
}


def _item(finding: Finding) -> str:
    return finding.setting or ""


def settings_findings(case: Case, findings: list[Finding]) -> list[Finding]:
    """The settings findings that explain what a diagnosis found; they do not decide anything."""
    if case.app is None:
        return []
    called: list[Finding] = []
    if case.protocol == "oidc":
        from trace_lens.agreement.oidc_settings import endpoints_called
        from trace_lens.checks.oidc.case import OidcCase

        called = list(endpoints_called(case)) if isinstance(case, OidcCase) else []
    explained = [_EXPLAINS[finding.code] for finding in findings if finding.breaks and finding.code in _EXPLAINS]
    if not explained:
        return called
    told = _of_settings(case.app, case.workspace, case.protocol)
    found = [finding for finding in told if any(explains(finding) for explains in explained)]
    return called + found + _misplaced_in_findings(case, findings, found)


def _of_settings(app: App, workspace: Workspace, protocol: str) -> tuple[Finding, ...]:
    """The findings of an application's settings alone, made once."""
    asked = (disagreements,) if protocol == "oidc" else (disagreements, pinned_keys)
    return workspace.once(
        f"settings of {app.id}",
        lambda: tuple(finding for ask in asked for finding in ask(app, workspace) if finding.stage is STAGE),
    )


def misplaced_value(
    case: Case, item: str, actual: str, expected: str | None, evidence: tuple[Evidence, ...]
) -> Finding | None:
    """The finding for a value of the message that belongs in another field; None where it does not."""
    if case.app is None:
        return None
    belongs = misplaced(case.app, case.workspace, item, actual)
    if belongs is None:
        return None
    return finding(
        "setting-misplaced",
        say("What was sent as {item}, {actual}, is {belongs}.", item=item, actual=actual, belongs=belongs),
        side=Side.PROVIDER,
        expected=expected,
        actual=actual,
        value_to_set=expected,
        evidence=evidence,
    )


def _misplaced_in_findings(case: Case, findings: list[Finding], found: list[Finding]) -> list[Finding]:
    """A value in the message that belongs in another field, where no setting on record shows it already."""
    items = {
        "audience-mismatch": "audience",
        "issuer-mismatch": "issuer",
        "destination-mismatch": "acs_url",
        "redirect-uri-mismatch": "redirect_uris",
    }
    if case.protocol == "oidc":
        items["audience-mismatch"] = "client_id"
    more = []
    for raised in findings:
        item = items.get(raised.code)
        if (
            item is None
            or raised.actual is None
            or raised.because_of
            or any(other.actual == raised.actual for other in found)
        ):
            continue
        belongs = misplaced_value(case, item, raised.actual, raised.expected, raised.evidence[:1])
        if belongs:
            more.append(belongs._replace(side=raised.side, value_to_set=raised.value_to_set))
    return more
