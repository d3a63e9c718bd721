"""What is to be written to put sources on record: new files, files that change with each difference, and what is told.

Sources may be mixed: captures, metadata, discovery documents, key sets, client registrations, certificates, lists.
Nothing is written here but by `write`; what is to be written is valid, or nothing is.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import tomli

from trace_lens.attempts.cookies import is_loopback
from trace_lens.attempts.evidence import SourceEvidence, assemble
from trace_lens.common.addresses import host_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.estate.merging import Difference, differences, new_text, updated_text
from trace_lens.estate.observed import observe
from trace_lens.estate.sightings import Sighting, sightings_of
from trace_lens.pki.fingerprints import read_fingerprint
from trace_lens.workspace import trust
from trace_lens.workspace.adding import APP, PROVIDER, RECORDS, CannotAdd, name_from
from trace_lens.workspace.loading import missing_files
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.records import App, Provider, Source, Workspace
from trace_lens.workspace.settings import AppSettings, ProviderSettings, read_table
from trace_lens.workspace.validation import validate

FOLDERS = {APP: "apps", PROVIDER: "providers"}


class Planned(NamedTuple):
    """One settings file that would be written: new, changed (with the differences) or the same as it is.

    `alone` is the text without what is on record.
    """

    kind: str
    id: str
    text: str
    is_new: bool
    differences: tuple[Difference, ...]
    notes: tuple[str, ...] = ()
    alone: str = ""

    @property
    def file(self) -> str:
        """The settings file, relative to the workspace."""
        return f"{FOLDERS[self.kind]}/{self.id}.toml"

    @property
    def changes(self) -> bool:
        """Whether writing it would change anything."""
        return self.is_new or bool(self.differences)


class Plan(NamedTuple):
    """Everything that would be written; `beside` are further files, by name.

    `unread` says which sources could not be read, `unused` which show nothing that can be put on record.
    """

    files: tuple[Planned, ...]
    beside: dict[str, bytes]
    unread: tuple[tuple[str, str], ...] = ()
    unused: tuple[tuple[str, str], ...] = ()


class Wanted(NamedTuple):
    """The settings that some sources tell of one application or provider."""

    kind: str
    id: str
    settings: dict[str, Any]
    comments: dict[str, str]
    head: tuple[str, ...]
    notes: tuple[str, ...] = ()


def plan_captures(
    evidence: Sequence[SourceEvidence],
    workspace: Workspace,
    now: datetime,
    *,
    name: str | None = None,
    provider: str | None = None,
    trust_seen: bool = False,
) -> Plan:
    """What captures show of applications and providers, laid beside what is on record.

    `name` names the application where the captures show one; `provider` is the one that they are of. Raises CannotAdd,
    SettingsError.
    """
    unread = [(held.source, _because(held)) for held in evidence if not held.found]
    seen = [shown for attempt in assemble(evidence) if (shown := observe(attempt, now))]
    sightings = sightings_of(seen, trust_seen=trust_seen)
    used = {shown.source for shown in seen}
    unused = [(held.source, _useless(held)) for held in evidence if held.found and held.source not in used]
    if name and len(sightings) > 1:
        found = ", ".join(sighting.observations[0].application_id or "?" for sighting in sightings)
        raise CannotAdd(f"the captures show {len(sightings)} applications ({found}); leave NAME out to add them all")
    wanted = _wanted(sightings, workspace, name, provider)
    made = [item.id for item in wanted if item.kind == PROVIDER]
    return Plan(tuple(planned(item, workspace, made) for item in wanted), {}, tuple(unread), tuple(unused))


def _because(held: SourceEvidence) -> str:
    return "; ".join(filter(None, held.problems)) or held.peeled.because or "it could not be read"


def _useless(held: SourceEvidence) -> str:
    return f"it shows no sign-in of an application, only: {', '.join(held.kinds)}"


def _wanted(
    sightings: Sequence[Sighting], workspace: Workspace, name: str | None, provider: str | None
) -> list[Wanted]:
    providers: dict[str, Wanted] = {}
    apps: list[Wanted] = []
    taken = set(workspace.apps)
    for sighting, (known, at_address) in zip(sightings, _on_record(sightings, workspace), strict=True):
        named = provider or _provider_for(sighting, workspace, providers)
        if named and named not in workspace.providers and named not in providers:
            providers[named] = Wanted(PROVIDER, named, {}, {}, _head(sighting))
        if named:
            held = providers.get(named) or Wanted(PROVIDER, named, {}, {}, ())
            providers[named] = held._replace(settings={**_of_provider(sighting), **held.settings})
        chosen = name or known or free_name(_name_for(sighting), taken)
        taken.add(chosen)
        shared = _shares(sighting, sightings) + ([at_address] if at_address and at_address != chosen else [])
        apps.append(_application(sighting, chosen, named, shared))
    return [*providers.values(), *apps]


def _name_for(sighting: Sighting) -> str:
    """A name by the application's own host; where that is a loopback or none, by its identifier."""
    addresses = [seen.address for seen in sighting.observations]
    ids = [seen.application_id for seen in sighting.observations if seen.application_id]
    hosts = [text for text in addresses if (host := host_of(text)) and not is_loopback(host)]
    return next((name for text in (*hosts, *ids, *addresses) if (name := name_from(text))), "application")


def _application(sighting: Sighting, name: str, provider: str | None, shared: Sequence[str]) -> Wanted:
    settings: dict[str, Any] = {"protocol": sighting.protocol}
    if provider:
        settings["provider"] = provider
    settings |= sighting.settings
    notes = [f"{key} is left out, for it varies: {'; '.join(values[:4])}" for key, values in sighting.varied.items()]
    if len(sighting.provider_ids) > 1:
        notes.append(f"people came from several providers: {', '.join(sighting.provider_ids)}")
    if shared:
        notes.append(
            f"its ACS URL is also that of {', '.join(shared)}: another application, or this one before its identifier "
            "was changed (then delete the outdated file)"
        )
    return Wanted(APP, name, settings, dict(sighting.comments), _head(sighting), tuple(notes))


def _head(sighting: Sighting) -> tuple[str, ...]:
    sources = list(dict.fromkeys(seen.source for seen in sighting.observations))
    more = f" and {len(sources) - 4} more" if len(sources) > 4 else ""
    lines = [f"Put on record from {', '.join(sources[:4])}{more}: as it was seen, to be compared with both sides."]
    return (*lines, *(f"DOUBTFUL: {doubt}, so any of these values may be the wrong one." for doubt in sighting.doubts))


def _of_provider(sighting: Sighting) -> dict[str, Any]:
    """The provider's own identifiers, where all captures name the same."""
    found: dict[str, set[str]] = {}
    for seen in sighting.observations:
        for key, value in seen.provider.items():
            found.setdefault(key, set()).add(value)
    return {key: values.pop() for key, values in found.items() if len(values) == 1}


def _provider_for(sighting: Sighting, workspace: Workspace, made: Mapping[str, Wanted]) -> str | None:
    """The provider of an application: on record by an identifier, else by its host; else a new one."""
    if len(sighting.provider_ids) > 1:
        return None
    identifier = sighting.provider_ids[0] if sighting.provider_ids else ""
    asked_at = str(sighting.settings.get("application.provider_sso_url", ""))
    for known in workspace.providers.values():
        if identifier in known.identifiers:
            return known.id
    host = host_of(identifier or asked_at)
    for known in workspace.providers.values():
        if host and host in {host_of(other) for other in known.identifiers}:
            return known.id
    for other in made.values():
        if host and host in {host_of(str(value)) for value in other.settings.values()}:
            return other.id
    if not identifier:
        return None
    return free_name(name_from(identifier) or "provider", {*workspace.providers, *made})


def _on_record(sightings: Sequence[Sighting], workspace: Workspace) -> list[tuple[str | None, str | None]]:
    """For each sighting the application on record that it is of, and the one that has its address.

    It is of the one with its identifier; where there is none, of the one at its address, if no other sighting is of
    that one by its identifier.
    """
    by_id = [_first(workspace, sighting, _has_identifier) for sighting in sightings]
    found: list[tuple[str | None, str | None]] = []
    for sighting, known in zip(sightings, by_id, strict=True):
        at_address = None if known else _first(workspace, sighting, _has_address)
        found.append((known or (None if at_address in by_id else at_address), at_address))
    return found


def _first(workspace: Workspace, sighting: Sighting, fits: Callable[[App, Sighting], bool]) -> str | None:
    return next(
        (
            app.id
            for app in workspace.apps.values()
            if app.settings.protocol == sighting.protocol and fits(app, sighting)
        ),
        None,
    )


def _has_identifier(app: App, sighting: Sighting) -> bool:
    told, setup = app.settings.application, app.settings.provider_setup
    own = {app.entity_id, setup.audience, told.oidc.client_id, setup.client_id} - {None}
    return bool(own & {seen.application_id for seen in sighting.observations})


def _has_address(app: App, sighting: Sighting) -> bool:
    return bool(set(app.acs_urls) & {str(url) for url in sighting.settings.get("application.acs_urls", ())})


def _shares(sighting: Sighting, others: Iterable[Sighting]) -> list[str]:
    """The identifiers of other applications that were seen at an address of this one."""
    own = {str(url) for url in sighting.settings.get("application.acs_urls", ())}
    at_it = [other for other in others if own & {str(url) for url in other.settings.get("application.acs_urls", ())}]
    return [identifier for other in at_it if other is not sighting and (identifier := other.application_id)]


def free_name(name: str, taken: Iterable[str]) -> str:
    """The name, with a number behind it where another has it."""
    held = set(taken)
    number = 2
    chosen = name
    while chosen in held:
        chosen = f"{name}-{number}"
        number += 1
    return chosen


def flattened(table: Mapping[str, Any], path: str = "") -> dict[str, Any]:
    """The values of a settings table by dotted key; lists of tables stay lists."""
    found: dict[str, Any] = {}
    for key, value in table.items():
        if isinstance(value, Mapping) and path.count(".") < 1:
            found |= flattened(value, f"{path}{key}.")
        else:
            found[path + key] = value
    return found


def anew(item: Planned) -> Planned:
    """A file as if nothing were there: only what is wanted stands in it."""
    return item._replace(text=item.alone, is_new=True, differences=()) if not item.is_new else item


def with_planned(workspace: Workspace, plan: Plan) -> Workspace:
    """The workspace as it would be with the providers and applications of a plan."""
    apps, providers = dict(workspace.apps), dict(workspace.providers)
    for item in plan.files:
        raw = tomli.loads(item.text)
        source = Source(workspace.root or Path(), item.file, item.text, raw)
        if item.kind == APP:
            apps[item.id] = App(item.id, read_table(AppSettings, raw), source, workspace.settings)
        else:
            providers[item.id] = Provider(item.id, read_table(ProviderSettings, raw), source)
    return replace(workspace, apps=apps, providers=providers, _kept={})


def planned(wanted: Wanted, workspace: Workspace, also: Iterable[str] = ()) -> Planned:
    """The settings file with what is wanted, checked; `also` are providers that are planned too.

    Raises CannotAdd, SettingsError with all that is wrong in it.
    """
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]*", wanted.id):
        raise CannotAdd(f"{wanted.id!r} is no name for a file; use letters, digits, dots and dashes")
    file = f"{FOLDERS[wanted.kind]}/{wanted.id}.toml"
    held = (workspace.apps if wanted.kind == APP else workspace.providers).get(wanted.id)
    alone = new_text(wanted.settings, wanted.comments, wanted.head)
    if isinstance(held, App):
        wanted = _without_trusted(wanted, held, workspace)
    if held is None:
        text = alone
        found: list[Difference] = []
    else:
        found = differences(_as_if_set(held.source.raw, held), wanted.settings)
        keys = {difference.key for difference in found}
        text = updated_text(
            held.source.text, {key: value for key, value in wanted.settings.items() if key in keys}, wanted.comments
        )
    raw = tomli.loads(text)
    problems = validate(RECORDS[wanted.kind], raw, file, text)
    provider = raw.get("provider")
    if wanted.kind == APP and isinstance(provider, str) and provider not in {*workspace.providers, *also}:
        known = ", ".join(sorted(workspace.providers)) or "none"
        problems.append(Problem(file, 0, "provider", f"names {provider}, which is not on record (there: {known})"))
    if problems:
        raise SettingsError(problems)
    return Planned(wanted.kind, wanted.id, text, held is None, tuple(found), wanted.notes, alone)


def _without_trusted(wanted: Wanted, app: App, workspace: Workspace) -> Wanted:
    """What is wanted, without the seen certificates that the application trusts already."""
    seen = wanted.settings.get("application.seen_certificates")
    if not seen:
        return wanted
    trusted = {key.fingerprint.hex for key in trust.pinned(app, workspace) if key.fingerprint}
    trusted |= {key.certificate.sha256.hex for key in trust.pinned(app, workspace) if key.certificate}
    left = [text for text in seen if read_fingerprint(text).hex not in trusted]
    rest = {key: value for key, value in wanted.settings.items() if key != "application.seen_certificates"}
    return wanted._replace(settings={**rest, **({"application.seen_certificates": left} if left else {})})


def _as_if_set(raw: Mapping[str, object], held: object) -> dict[str, Any]:
    """A provider's settings, with the identifiers that its documents tell: they need not be set beside them."""
    told: dict[str, Any] = dict(raw)
    if isinstance(held, Provider):
        for key, value in (("entity_id", held.entity_id), ("issuer", held.issuer)):
            if value:
                told.setdefault(key, value)
    return told


def check_files(plan: Plan, root: Path) -> None:
    """Raise SettingsError where a file that the settings name is neither there nor to be written."""
    problems: list[Problem] = []
    for item in plan.files:
        source = Source(root, item.file, item.text, tomli.loads(item.text))
        missing = missing_files(source, item.kind)
        problems += [problem for problem in missing if not any(name in problem.reason for name in plan.beside)]
    if problems:
        raise SettingsError(problems)


def only_new(plan: Plan, root: Path) -> Plan:
    """The part of a plan that changes nothing that is there: new settings files, and the files that these name."""
    files = tuple(item for item in plan.files if item.is_new)
    named = {name for name in plan.beside if any(name in item.text for item in files)}
    beside = {name: data for name, data in plan.beside.items() if name in named and not differs(root, name, data)}
    return plan._replace(files=files, beside=beside)


def differs(root: Path, name: str, data: bytes) -> bool:
    """Whether a file is there and holds something else."""
    path = root / name
    return path.exists() and (not path.is_file() or path.read_bytes() != data)


def write(plan: Plan, root: Path) -> None:
    """Write the files, the settings files last. Raises OSError."""
    for name, data in plan.beside.items():
        put(root / name, data)
    for item in plan.files:
        if item.changes:
            put(root / item.file, item.text.encode())


def put(path: Path, data: bytes) -> None:
    """Write a file at once: whoever reads it sees the old one or the new one."""
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(path.name + ".new")
    fresh.write_bytes(data)
    fresh.replace(path)
