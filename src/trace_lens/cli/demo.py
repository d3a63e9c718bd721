"""`trace-lens demo`."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import tell
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from datetime import datetime

    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.sources import SourceFile

_NOW = "2026-11-22T12:00:00Z"
_REPORTED = "51-"
"""The capture of which a report is written."""


@click.command(epilog="Example:\n\n  trace-lens demo /tmp/northmere")
@click.argument("folder", required=False, type=click.Path(path_type=Path, file_okay=False), metavar="[DIR]")
@click.option(
    "--serve",
    is_flag=True,
    help="Run a small provider and application on loopback, with a workspace in DIR (default: stand-in), to try the "
    "live commands on.",
)
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="NAME",
    help="With --serve: begin with this fault; may be repeated. A wrong NAME lists them.",
)
@with_session("text", "json", workspace=False, now=f"{_NOW}, when the story ends")
def command(session: Session, folder: Path | None, serve: bool, faults: tuple[str, ...]) -> int:
    """Write the demo workspace and run the full example on it.

    The story: one fortnight at Northmere Ferries, a made-up ferry company. DIR is northmere-demo where it is not
    given. Everything is generated here; nothing is fetched. With --serve, one JSON line names the addresses, a test
    account and the certificate to trust; a POST to the address called faults switches faults, and a GET lists them.
    """
    if faults and not serve:
        raise click.UsageError("--fault goes with --serve.")
    if serve:
        return _serve(folder or Path("stand-in"), list(faults))
    from trace_lens.common.moments import read_moment
    from trace_lens.demo.workspace import DemoExists, write_demo
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.diagnosis.logbook import keep_clocks, logbook_of
    from trace_lens.logs.store.loading import load_all
    from trace_lens.logs.store.store import EventStore
    from trace_lens.render import as_json
    from trace_lens.workspace.loading import load_workspace
    from trace_lens.workspace.log_sources import log_sources
    from trace_lens.workspace.snapshots import keep
    from trace_lens.workspace.sources import SourceFile

    folder = folder or Path("northmere-demo")
    try:
        demo = write_demo(folder)
        for item in demo.earlier:
            keep(folder, item.document, item.data, item.at)
    except DemoExists:
        raise click.UsageError(f"{folder} is not empty, and nothing is overwritten. Name another folder.") from None
    except OSError as error:
        raise click.UsageError(f"{folder} cannot be written: {error.strerror}.") from None
    workspace = load_workspace(folder)
    today = session.now_given or read_moment(_NOW)[0]
    sources = list(log_sources(workspace).values())
    files = [file for source in sources for file in source.files_in(folder)]
    with EventStore(folder, writing=True, files=files) as store:
        loaded = load_all(store, sources, folder)
        keep_clocks(workspace, store)
    events = sum(loading.rows for loading in loaded)
    for loading in loaded:
        if loading.problem:
            tell(f"{loading.file}: {loading.problem}.")
    options = Options(today, with_logs=True)
    captured = [SourceFile(f"captures/{capture.file}", capture.data) for capture in demo.captures]
    result = diagnose_sources(captured, workspace, options, logbook=logbook_of(workspace))

    report = _report(result, captured, workspace, today, folder)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.demo import demo_pages

        return demo_pages(demo.folder, demo.files, len(workspace.apps), events, result, report)

    failed = [as_json.unreadable(source, because) for source, because in result.unreadable]
    session.emit(pages, lambda: as_json.diagnoses(result.diagnoses, failed, session.masks))
    return 0


def _serve(folder: Path, faults: list[str]) -> int:
    """Run the stand-in until it is interrupted."""
    import json
    import threading

    from trace_lens.live.stand_in.faults import UnknownFault
    from trace_lens.live.stand_in.serving import serving

    if folder.exists() and any(folder.iterdir()):
        raise click.UsageError(f"{folder} is not empty, and nothing is overwritten. Name another folder.")
    try:
        with serving(folder, faults) as made:
            click.echo(json.dumps(made.told()))
            sys.stdout.flush()
            trying = f"SSL_CERT_FILE={made.authority} trace-lens probe --all-apps --workspace {folder}"
            tell(f"Serving until Ctrl-C. Try: {trying}")
            threading.Event().wait()
    except UnknownFault as error:
        raise click.UsageError(f"--fault: {error}.") from None
    except OSError as error:
        raise click.UsageError(f"{folder} cannot be written: {error.strerror or error}.") from None
    except KeyboardInterrupt:
        tell("Ended.")
    return 0


def _report(result: Result, captured: list[SourceFile], workspace: Workspace, now: datetime, folder: Path) -> str:
    """Write one report to hand over into the folder; its name."""
    from trace_lens.cli.output import write
    from trace_lens.cli.reports import Reports, digests_of, without_names
    from trace_lens.common.masking import Masks
    from trace_lens.render.documents.report import Made

    chosen = tuple(diagnosis for diagnosis in result.diagnoses if f"/{_REPORTED}" in diagnosis.source)
    sources = [source for source in captured if f"/{_REPORTED}" in source.name]
    shown, digests = without_names(result._replace(diagnoses=chosen), digests_of(sources), workspace, Masks())
    name = "report.html"
    write(Reports(workspace, shown, Made(now, digests)).one(), folder / name)
    return name
