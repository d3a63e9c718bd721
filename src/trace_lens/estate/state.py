"""The state of a workspace in a few lines: what is on record, what came last, what ends next, what breaks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import date, datetime
from pathlib import Path

from trace_lens.common.moments import MomentError, read_moment_or_date
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import check_settings
from trace_lens.workspace import trust
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import Workspace

_CAPTURES = "captures"


class Ending(NamedTuple):
    """What ends, and when."""

    at: datetime
    what: str


class State(NamedTuple):
    """`apps` counts the applications by protocol; `newest` are the captures that came last, newest first."""

    apps: dict[str, int]
    providers: int
    newest: tuple[tuple[str, datetime], ...]
    captures: int
    has_logs: bool
    ends: Ending | None
    breaking: tuple[str, ...]


def state_of(workspace: Workspace, now: datetime) -> State:
    """The state of a workspace. Raises SettingsError."""
    captures = sorted(_captures(workspace), key=lambda item: item[1], reverse=True)
    checked = check_settings(list(workspace.apps.values()), workspace, now)
    endings = sorted(item for item in endings_of(workspace))
    return State(
        apps=dict(Counter(app.settings.protocol for app in workspace.apps.values())),
        providers=len(workspace.providers),
        newest=tuple(captures[:3]),
        captures=len(captures),
        has_logs=workspace.has_logs,
        ends=next((item for item in endings if item.at > now), None),
        breaking=tuple(app.id for app, findings in checked if any(finding.breaks for finding in findings)),
    )


def _captures(workspace: Workspace) -> Iterator[tuple[str, datetime]]:
    from datetime import UTC

    root = workspace.root or Path()
    for path in (root / _CAPTURES).glob("*") if (root / _CAPTURES).is_dir() else ():
        if path.is_file():
            yield path.name, datetime.fromtimestamp(path.stat().st_mtime, UTC)


def endings_of(workspace: Workspace) -> Iterator[Ending]:
    """Every date on record on which something ends: certificates in use, and client secrets."""
    for provider in workspace.providers.values():
        try:
            keys = trust.published(provider, workspace)
        except SettingsError:
            continue
        for key in keys:
            if key.certificate:
                yield Ending(key.certificate.not_after, f"a signing certificate of {provider.name}")
    for app in workspace.apps.values():
        for key in trust.pinned(app, workspace):
            if key.certificate:
                yield Ending(key.certificate.not_after, f"a certificate that {app.name} pins")
        ends = app.settings.application.oidc.secret_expires
        if ends is not None:
            yield from _secret(app.name, ends)


def _secret(name: str, ends: date | datetime | str) -> Iterator[Ending]:
    try:
        yield Ending(read_moment_or_date(str(ends)), f"the client secret of {name}")
    except MomentError:
        return
