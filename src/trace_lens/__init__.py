"""Trace Lens: why a single sign-on failed, on whose side, and which value repairs it.

The command line lives in `trace_lens.cli`; everything below `trace_lens.render` can be used as a library. Its front is
`diagnose`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from trace_lens.common.version import __version__

if TYPE_CHECKING:
    import os
    from datetime import datetime

    from trace_lens.diagnosis.judging import Diagnosis

__all__ = ["NothingToDiagnose", "__version__", "diagnose"]


class NothingToDiagnose(ValueError):
    """A source could not be read, or holds no sign-in; the message says why."""


def diagnose(
    source: bytes | str | os.PathLike[str],
    workspace: str | os.PathLike[str] | None = None,
    *,
    at: datetime | None = None,
    now: datetime | None = None,
    app: str | None = None,
    provider: str | None = None,
) -> tuple[Diagnosis, ...]:
    """Diagnose every sign-in in a capture: its octets, or the path of a file or folder.

    `workspace` is the folder with trace-lens.toml; without one nothing is on record. `at` is the moment to judge at
    (default: what the capture tells), `now` the current time (default: the clock), `app` and `provider` are names on
    record (default: chosen by the message). Moments have a time zone.

    Raises NothingToDiagnose where no sign-in can be read from the source, SettingsError
    (trace_lens.workspace.problems) where settings are wrong, KeyError where `app` or `provider` is not on record.
    """
    from datetime import UTC
    from datetime import datetime as clock
    from pathlib import Path

    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.workspace.loading import load_workspace
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.sources import SourceFile, read_sources

    known = Workspace() if workspace is None else load_workspace(Path(workspace))
    for name, names in ((app, known.apps), (provider, known.providers)):
        if name is not None and name not in names:
            raise KeyError(name)
    sources = [SourceFile("-", source)] if isinstance(source, bytes) else list(read_sources((str(source),)))
    options = Options(now or clock.now(UTC), at, app, provider, prove=True)
    result = diagnose_sources(sources, known, options)
    if not result.diagnoses:
        raise NothingToDiagnose("; ".join(f"{name}: {because}" for name, because in result.unreadable))
    return result.diagnoses
