"""Where in the workspace a repair is put on record, so that the record follows what is set on either side."""

from __future__ import annotations

from collections.abc import Callable

from trace_lens.checks.case import Case
from trace_lens.common.findings import Finding, Side
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.proposals import Proposal
from trace_lens.workspace.records import EVERYONE, App, Provider


class Record(NamedTuple):
    """A place in the workspace: the file, the key in it ("" for a list of people), and whether the value is there."""

    file: str
    key: str
    held: bool

    def __str__(self) -> str:
        return f"{self.file}, {self.key}" if self.key else self.file


def record_of(case: Case, first: Finding, proposal: Proposal | None) -> Record | None:
    """Where the repair of the first break belongs in the workspace.

    None where nothing on record tells of it, where the user must act, and where the value that the side must set is
    to be looked for first.
    """
    app = case.app
    if app is None or first.side in (Side.USER, Side.NETWORK):
        return None
    if proposal is not None and proposal.side is first.side:
        return _under(case.provider if proposal.of_provider else app, proposal.path, first)
    place = (_OF_SIDE.get((first.code, first.side)) or _OF_CODE.get(first.code)) if first.side else None
    if place is None or (first.side is Side.PROVIDER and not _answers_for(case, app)):
        return None
    return place(case, app, first)


def _answers_for(case: Case, app: App) -> bool:
    """Whether the provider that answered is the one of the application's record."""
    return case.provider is not None and case.provider.id == app.settings.provider


_Place = Callable[[Case, App, Finding], Record | None]


def _at(*path: str) -> _Place:
    """A key of the application's file."""
    return lambda case, app, first: _under(app, path, first)


def _by_protocol(saml: tuple[str, ...], oidc: tuple[str, ...]) -> _Place:
    return lambda case, app, first: _under(app, oidc if case.protocol == "oidc" else saml, first)


def _under(holder: App | Provider | None, path: tuple[str | int, ...], first: Finding) -> Record | None:
    if holder is None:
        return None
    return Record(holder.source.file, holder.source.where(*path).path, _holds(_value(holder.source.raw, path), first))


def _value(table: object, path: tuple[str | int, ...]) -> object:
    for part in path:
        if isinstance(part, str) and isinstance(table, dict):
            table = table.get(part)
        elif isinstance(part, int) and isinstance(table, list) and part < len(table):
            table = table[part]
        else:
            return None
    return table


def _holds(value: object, first: Finding) -> bool:
    """Whether a setting has what is to be set: the value itself, it in a list, or each of its words (scopes)."""
    if not first.value_to_set:
        return False
    if isinstance(value, list):
        return first.value_to_set in value or set(first.value_to_set.split()) <= {str(item) for item in value}
    return value == first.value_to_set


def _accounts(case: Case, app: App, first: Finding) -> Record | None:
    name = app.settings.account.list_file
    return Record(name, "", held=False) if name else None


def _assignments(case: Case, app: App, first: Finding) -> Record | None:
    name = app.settings.provider_setup.assigned
    if name is None:
        return None
    return (
        Record(app.source.file, "provider_setup.assigned", held=True) if name == EVERYONE else Record(name, "", False)
    )


def _consent(case: Case, app: App, first: Finding) -> Record:
    given = app.settings.provider_setup.consent == "given"
    return Record(app.source.file, "provider_setup.consent", held=given)


def _claims(case: Case, app: App, first: Finding) -> Record | None:
    """Which claims are released is on record for clients only, and only where some are."""
    listed = case.protocol == "oidc" and app.settings.provider_setup.claims_released
    return _under(app, ("provider_setup", "claims_released"), first) if listed else None


def _names(case: Case, app: App, first: Finding) -> Record | None:
    """How the provider makes the name, where that is on record."""
    rules = app.settings.provider_setup.subject
    return _under(app, ("provider_setup", "subject"), first) if rules else None


def _key_set(case: Case, app: App, first: Finding) -> Record | None:
    provider = case.provider
    name = provider.settings.key_set if provider and case.protocol == "oidc" else None
    if provider is None or name is None:
        return None
    return Record(provider.source.file, "key_set", held=False) if "://" in name else Record(name, "", held=False)


_OF_CODE: dict[str, _Place] = {
    "account-not-found": _accounts,
    "account-disabled": _accounts,
    "account-ambiguous": _accounts,
    "account-not-federated": _accounts,
    "client-secret-expired": _at("application", "secret_expires"),
}
"""Where a repair belongs whichever side makes it."""

_OF_SIDE: dict[tuple[str, Side], _Place] = {
    ("acs-not-registered", Side.APPLICATION): _at("application", "acs_urls"),
    ("redirect-uri-mismatch", Side.APPLICATION): _at("application", "redirect_uris"),
    ("identifier-in-request-unknown", Side.APPLICATION): _by_protocol(
        ("application", "entity_id"), ("application", "client_id")
    ),
    ("issuer-mismatch", Side.APPLICATION): _by_protocol(
        ("application", "provider_sso_url"), ("application", "provider_issuer")
    ),
    ("scope-not-granted", Side.APPLICATION): _at("application", "scopes"),
    ("token-missing", Side.APPLICATION): _at("application", "scopes"),
    ("api-refused", Side.APPLICATION): _at("application", "scopes"),
    ("response-issuer-mismatch", Side.APPLICATION): _at("application", "provider_issuer"),
    ("discovery-issuer-mismatch", Side.APPLICATION): _at("application", "discovery_url"),
    ("certificate-damaged", Side.APPLICATION): _at("application", "trusted_certificates"),
    ("signed-by-other-known-key", Side.APPLICATION): _key_set,
    ("redirect-uri-mismatch", Side.PROVIDER): _at("provider_setup", "redirect_uris"),
    ("audience-missing", Side.PROVIDER): _by_protocol(("provider_setup", "audience"), ("provider_setup", "client_id")),
    ("scope-not-granted", Side.PROVIDER): _at("provider_setup", "scopes_granted"),
    ("consent-missing", Side.PROVIDER): _consent,
    ("claim-missing", Side.PROVIDER): _claims,
    ("account-near-match", Side.PROVIDER): _names,
    ("not-assigned", Side.PROVIDER): _assignments,
}
"""Where a repair belongs that one side makes. A code that is not here changes nothing that is on record."""
