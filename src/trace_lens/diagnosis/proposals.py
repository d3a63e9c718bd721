"""The setting that would repair the first break, in the form in which it can be tried on the capture."""

from __future__ import annotations

from collections.abc import Callable

from trace_lens.checks.case import Case
from trace_lens.checks.claims import matches
from trace_lens.checks.identified import account_name, index_of
from trace_lens.checks.protocols import of_saml
from trace_lens.common.findings import Finding, Side
from trace_lens.common.locations import NOWHERE
from trace_lens.common.toml import inline
from trace_lens.common.tuples import NamedTuple


class Proposal(NamedTuple):
    """A setting that would repair a break: its key, and its value as the option `--set` takes it."""

    key: str
    value: str

    def __str__(self) -> str:
        return f"{self.key}={self.value}"

    @property
    def path(self) -> tuple[str | int, ...]:
        """The key as a path of keys and list positions (from 0) in the file that holds it."""
        path = tuple(int(part) - 1 if part.isdigit() else part for part in self.key.split("."))
        return path[1:] if self.of_provider else path

    @property
    def of_provider(self) -> bool:
        """Whether it is a setting of the provider's file; all others are of the application's."""
        return self.key.startswith("provider.")

    @property
    def side(self) -> Side:
        """Whose setting it is, in whichever file it is on record."""
        return Side.PROVIDER if self.key.startswith(("provider.", "provider_setup.")) else Side.APPLICATION


_Maker = Callable[[Case, Finding], Proposal | None]


def propose(case: Case, first: Finding) -> Proposal | None:
    """The setting that would repair the break; None where none on record would."""
    if case.app is None:
        return None
    make = (_OF_CLIENT if case.protocol == "oidc" else {}).get(first.code) or _PROPOSALS.get(first.code)
    return make(case, first) if make else None


def _set(of_provider: str | None, of_application: str | None) -> _Maker:
    """A proposal that sets the finding's value under a key of the side that has to act."""

    def make(case: Case, finding: Finding) -> Proposal | None:
        key = of_provider if finding.side is Side.PROVIDER else of_application
        return Proposal(key, finding.value_to_set) if key and finding.value_to_set else None

    return make


def _trust(case: Case, finding: Finding) -> Proposal | None:
    if not of_saml(case):
        return None
    certificate = next((verdict.certificate for verdict in case.signed.own if verdict.certificate), None)
    if finding.side is not Side.APPLICATION or certificate is None:
        return None
    value = finding.value_to_set or str(certificate.sha256)
    pins = case.app.settings.application.saml.trusted_certificates if case.app else ()
    if len(pins) > 1 and finding.code == "signed-by-other-known-key":
        return Proposal("application.trusted_certificates", inline([*pins, value]))
    return Proposal("application.trusted_certificates", value)


def _account(case: Case, finding: Finding) -> Proposal | None:
    """The rule that makes the account's name of the one sent, where it holds for all other accounts too."""
    from trace_lens.people.names import Named, apply, everybody
    from trace_lens.people.rules import propose_rule

    app = case.app
    index = index_of(case, app) if app else None
    name = account_name(case)
    if app is None or index is None or name is None:
        return None
    sent = Named(name.sent, case.attempt.source, NOWHERE)
    people = everybody(app, case.workspace, sent)
    found = propose_rule(app, index, apply([sent], app.settings.account.rewrite, index), [sent, *people])
    if found:
        return Proposal("account.rewrite", inline(found.steps))
    expected, actual = finding.expected or "", finding.actual or ""
    return Proposal("account.compare", "ignore-case") if expected.casefold() == actual.casefold() else None


def _claim_name(case: Case, finding: Finding) -> Proposal | None:
    match = next((match for match in matches(case) if match.near and match.claim.name == finding.expected), None)
    if match is None or match.sent_as is None:
        return None
    return Proposal(f"claims.{match.position + 1}.also_as", inline([*match.claim.also_as, match.sent_as]))


def _started(case: Case, finding: Finding) -> Proposal | None:
    return Proposal("application.accepts_unsolicited", "true")


def _creates(case: Case, finding: Finding) -> Proposal | None:
    return Proposal("account.creates_from", "both") if finding.expected in ("application", "provider") else None


_PROPOSALS: dict[str, _Maker] = {
    "audience-mismatch": _set("provider_setup.audience", "application.entity_id"),
    "destination-mismatch": _set("provider_setup.acs_url", None),
    "recipient-mismatch": _set("provider_setup.acs_url", None),
    "acs-not-registered": _set("provider_setup.acs_url", None),
    "identifier-in-request-unknown": _set("provider_setup.audience", None),
    "name-id-format-mismatch": _set("provider_setup.name_id_format", None),
    "issuer-mismatch": lambda case, finding: (
        Proposal("application.provider_entity_id", finding.actual)
        if case.provider and finding.actual and finding.actual == case.provider.entity_id
        else None
    ),
    "fingerprint-mismatch": _trust,
    "signed-by-other-known-key": _trust,
    "unsolicited-not-accepted": _started,
    "account-near-match": _account,
    "account-creation-blocked": _creates,
    "claim-name-near-match": _claim_name,
}


def _redirect(case: Case, finding: Finding) -> Proposal | None:
    """The redirect URI registered at the provider beside those that are, where the provider has to act."""
    if case.app is None or finding.side is not Side.PROVIDER or not finding.value_to_set:
        return None
    if finding.value_to_set != finding.actual:
        return None  # the answer came to another address than was asked for: no registration changes that
    registered = case.app.settings.provider_setup.redirect_uris
    if finding.value_to_set in registered:
        return None  # the record says so already, and the provider says otherwise
    return Proposal("provider_setup.redirect_uris", inline([*registered, finding.value_to_set]))


def _algorithm(case: Case, finding: Finding) -> Proposal | None:
    from trace_lens.oidc.algorithms import SIGNATURES

    return Proposal("application.token_algorithm", finding.actual) if finding.actual in SIGNATURES else None


def _issuer(case: Case, finding: Finding) -> Proposal | None:
    own = finding.side is Side.APPLICATION  # what another side issues is not repaired by the application's setting
    return Proposal("application.provider_issuer", finding.value_to_set) if own and finding.value_to_set else None


_OF_CLIENT: dict[str, _Maker] = {
    "audience-mismatch": _set("provider_setup.client_id", "application.client_id"),
    "issuer-mismatch": _issuer,
    "redirect-uri-mismatch": _redirect,
    "algorithm-unexpected": _algorithm,
    "identifier-in-request-unknown": _set("provider_setup.client_id", None),
}
