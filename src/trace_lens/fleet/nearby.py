"""What changed near a moment: dates of certificates, lines of `changes.csv`, documents that changed between two
snapshots, and codes of failures that appeared for the first time.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.drifting import changes_on_record
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.workspace import trust
from trace_lens.workspace.records import App, Workspace

BEFORE = timedelta(days=1)
"""So long before a change may lie what brought it about."""


class Near(NamedTuple):
    """Something that happened: what, and when."""

    at: datetime
    what: str


class Happened(NamedTuple):
    """Something that happened to an application or a provider; to all where `whose` is empty.

    `since` is the earliest moment where only an interval is known: what differs between two snapshots happened between
    them, and `at` is the second one.
    """

    at: datetime
    whose: str
    what: str
    since: datetime | None = None


def happened(workspace: Workspace) -> list[Happened]:
    """What is on record with a moment. Raises SettingsError."""
    found: dict[Happened, None] = {}
    for change in workspace.changes:
        by = f", by {change.who}" if change.who else ""
        found[Happened(change.at, change.app, f"changes.csv: {change.what}{by}")] = None
    for provider in workspace.providers.values():
        for key in trust.published(provider, workspace):
            for at, what in _dates(key.certificate):
                found[Happened(at, provider.id, f"a signing certificate of {provider.name} {what}")] = None
    for app in workspace.apps.values():
        for pin in trust.pinned(app, workspace):
            for at, what in _dates(pin.certificate):
                found[Happened(at, app.id, f"a certificate that {app.name} pins {what}")] = None
        for own in app.role.keys if app.role else ():
            for at, what in _dates(certificate_or_none(own.certificate.der)):
                found[Happened(at, app.id, f"a certificate of {app.name} {what}")] = None
    for item in changes_on_record(workspace):
        found[Happened(item.at, item.document.whose, item.words, item.since)] = None
    return list(found)


def _dates(certificate: Certificate | None) -> Iterator[tuple[datetime, str]]:
    if certificate is not None:
        name = certificate.sha256.hex[:8]
        yield certificate.not_before, f"({name}) becomes valid"
        yield certificate.not_after, f"({name}) ends"


def near(
    on_record: Iterable[Happened],
    app: App | None,
    codes: Iterable[Near],
    earliest: datetime,
    latest: datetime,
    at: datetime,
) -> tuple[Near, ...]:
    """What happened to an application, to its provider or to all from a day before an interval up to its end, the
    nearest to a moment first. `codes` are the first appearances of codes in its failures.
    """
    whose = {"", *((app.id, app.provider_id or "") if app else ())}
    begin = earliest - BEFORE
    found = [
        Near(item.at, item.what)
        for item in on_record
        if item.whose in whose and begin <= item.at and (item.since or item.at) <= latest
    ]
    found += [item for item in codes if begin <= item.at <= latest]
    return tuple(sorted(dict.fromkeys(found), key=lambda item: (abs(item.at - at), item.what)))
