"""Plans put together of documents, captures and single values, and what is to be said of them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from trace_lens.attempts.evidence import SourceEvidence
    from trace_lens.estate.plans import Plan, Planned
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.trial_settings import TrialSetting


_KEYS = {
    "entity_id": "application.entity_id",
    "acs_urls": "application.acs_urls",
    "sign_in_url": "application.sign_in_url",
    "client_id": "application.client_id",
    "redirect_uris": "application.redirect_uris",
    "certificates": "application.trusted_certificates",
    "display_name": "name",
    "owner": "owner",
}


def with_seen_documents(plan: Plan, captures: list[SourceEvidence], workspace: Workspace, *, trust_seen: bool) -> Plan:
    """A plan with the documents of providers that browsers fetched in the captures."""
    from trace_lens.estate.documents import read_document, seen_documents
    from trace_lens.estate.plans import planned, with_planned

    for found, told in seen_documents(captures, with_planned(workspace, plan), trust_seen=trust_seen):
        known = with_planned(workspace, plan)
        for document in read_document(found, known, told):
            plan = joined(plan, planned(document.wanted, known), document.beside)
    return plan


def joined(plan: Plan, item: Planned, beside: dict[str, bytes]) -> Plan:
    """A plan with one more file; one that was planned before is replaced by what it became."""
    files = [other for other in plan.files if other.file != item.file]
    before = next((other for other in plan.files if other.file == item.file), None)
    if before is not None:
        item = item._replace(is_new=before.is_new, differences=(*before.differences, *item.differences))
    return plan._replace(files=(*files, item), beside={**plan.beside, **beside})


def told_by_options(options: dict[str, Any], kind: str) -> dict[str, Any]:
    """The settings that options give, by dotted key."""
    found: dict[str, Any] = {}
    for option, key in _KEYS.items():
        value = options[option]
        if value:
            if kind == "provider":
                key = {"application.trusted_certificates": "certificates"}.get(key, key.removeprefix("application."))
            found[key] = list(value) if isinstance(value, tuple) else value
    return found


def with_settings(table: dict[str, Any], settings: list[TrialSetting], kind: str) -> dict[str, Any]:
    """The settings with those of --set put into them."""
    from trace_lens.estate.merging import nested
    from trace_lens.estate.plans import flattened
    from trace_lens.workspace.adding import RECORDS
    from trace_lens.workspace.problems import Problem, SettingsError
    from trace_lens.workspace.trial_settings import put

    raw = nested(table)
    problems: list[Problem] = []
    for setting in settings:
        put(raw, RECORDS[kind], setting, problems)
    if problems:
        raise SettingsError(problems)
    return flattened(raw)


def name_of(table: dict[str, Any]) -> str | None:
    from trace_lens.estate.merging import nested
    from trace_lens.workspace.adding import name_for

    return name_for(None, nested(table))


def copied(table: dict[str, Any], name: str, workspace: Workspace) -> dict[str, bytes]:
    """Certificate files that lie outside the workspace are copied into it, as metadata is."""
    from pathlib import Path

    root = (workspace.root or Path()).resolve()
    beside: dict[str, bytes] = {}
    for key in ("application.trusted_certificates", "certificates"):
        for place, text in enumerate(table.get(key, ())):
            path = Path(text).resolve()
            own = (root / text).resolve()
            if not path.is_file() or (own.is_file() and own.is_relative_to(root)):
                continue  # a fingerprint, a file of the workspace, or none: that is told later
            if path.is_relative_to(root):
                table[key][place] = str(path.relative_to(root))
                continue
            copy = f"certs/{name}-{path.name}" if path.stem != name else f"certs/{path.name}"
            beside[copy] = path.read_bytes()
            table[key][place] = copy
    return beside


def speaks_saml(item: Planned) -> bool:
    """Whether a provider's file tells anything of SAML."""
    import tomli

    return bool({"metadata", "entity_id", "certificates"} & set(tomli.loads(item.text)))


def only_seen(item: Planned) -> bool:
    """Whether an application's file names certificates that were seen, and none that are trusted."""
    import tomli

    told = tomli.loads(item.text).get("application", {})
    return bool(told.get("seen_certificates")) and not told.get("trusted_certificates")
