"""`trace-lens fleet`."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.figures import FigureFile, draw_fleet
from trace_lens.cli.options import Moment, sources_of, tell
from trace_lens.cli.progress import watched
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.diagnosis.judging import Diagnosis

_CAPTURES = "captures"


@click.command(
    epilog="Examples:\n\n  trace-lens fleet\n\n  trace-lens fleet --since -7d --figure week.png\n\n"
    "  trace-lens fleet captures/monday --format json",
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--since", type=Moment(), metavar="TIME", help="Count sign-ins in the logs from this moment on.")
@click.option("--until", type=Moment(), metavar="TIME", help="Count sign-ins in the logs before this moment.")
@click.option("--no-captures", is_flag=True, help="Do not diagnose the captures of the workspace.")
@click.option("--figure", type=FigureFile(), metavar="FILE", help="Draw all applications over time, as PNG or SVG.")
@with_session(
    "text",
    "json",
    "jsonl",
    "csv",
    "markdown",
    now=True,
    verbose="Show every cause, and all that happened near a change.",
)
def command(
    session: Session,
    sources: tuple[str, ...],
    since: datetime | None,
    until: datetime | None,
    no_captures: bool,
    figure: Path | None,
) -> int:
    """Show all applications: settings, failure rates, when these changed, who fails, and shared causes.

    Rates come from the loaded logs, causes from the logs and from captures: the SOURCEs, by default the folder
    captures/ of the workspace. Exit status: 0, 2 wrong usage or settings, 3 a SOURCE could not be read.
    """
    from trace_lens.fleet.overview import overview
    from trace_lens.fleet.taking_in import logs_of
    from trace_lens.logs.store.manifest import StoreProblem

    workspace, now = session.workspace, session.now
    named = bool(sources)
    if not sources and not no_captures and (session.root / _CAPTURES).is_dir():
        sources = (str(session.root / _CAPTURES),)
    diagnoses, failed = _diagnosed(session, sources)
    try:
        taken = logs_of(workspace, since, until)
    except StoreProblem as error:
        tell(f"Error: {error}.")
        return 3
    found = overview(workspace, taken.logged, diagnoses, now, taken.causes)
    if figure and not draw_fleet(figure, found, taken.logged):
        return 2

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.fleet import fleet_pages

        return fleet_pages(found, now, full=session.verbose)

    from trace_lens.render import json_fleet

    if session.format in ("csv", "jsonl"):
        session.emit(pages, lambda: {"applications": json_fleet.fleet_rows(found)}, "applications")
    else:
        session.emit(pages, lambda: json_fleet.fleet(found))
    return 3 if failed and named else 0


def _diagnosed(session: Session, sources: tuple[str, ...]) -> tuple[tuple[Diagnosis, ...], bool]:
    """The diagnoses of captures, and whether some could not be read."""
    if not sources:
        return (), False
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options

    with watched("sources") as told:
        result = diagnose_sources(sources_of(sources), session.workspace, Options(now=session.now), told=told)
    for source, because in result.unreadable:
        tell(f"{source}: {because}")
    return tuple(result.diagnoses), bool(result.unreadable)
