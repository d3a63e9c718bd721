"""`trace-lens timeline`."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.figures import FigureFile, draw_timeline
from trace_lens.cli.options import Duration, Moment, tell
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook, tell_problem

if TYPE_CHECKING:
    from trace_lens.diagnosis.judging import Options
    from trace_lens.diagnosis.logbook import Logbook
    from trace_lens.diagnosis.timelines import Timeline
    from trace_lens.render.as_json import Json


@click.command(
    epilog="Examples:\n\n  trace-lens timeline network.har\n\n  trace-lens timeline captures/ --format json\n\n"
    "  trace-lens timeline network.har --figure timeline.png\n\n"
    "  trace-lens timeline --user m.tern --around 2026-11-20T08:14:00Z"
)
@click.argument("sources", nargs=-1, metavar="[SOURCE...]")
@click.option("--user", metavar="NAME", help="Without a SOURCE: rebuild this person's attempts from the logs alone.")
@click.option("--around", type=Moment(), metavar="TIME", help="Look for attempts around this moment.")
@click.option(
    "--within",
    type=Duration(),
    default="15m",
    show_default=True,
    metavar="DURATION",
    help="Look this far before and after it.",
)
@click.option(
    "--app",
    shell_complete=completing.apps,
    metavar="NAME",
    help="The messages are for this application (default: chosen by the message).",
)
@click.option(
    "--provider",
    shell_complete=completing.providers,
    metavar="NAME",
    help="The messages are from this provider (default: their issuer).",
)
@click.option(
    "--at", type=Moment(), metavar="TIME", help="Judge times as of this moment (default: what the capture shows)."
)
@click.option("--figure", type=FigureFile(), metavar="FILE", help="Draw the timelines, as PNG or SVG.")
@click.option("--together", is_flag=True, help="Treat all sources as one sign-in attempt.")
@with_session("text", "json", now=True, verbose="")
def command(
    session: Session,
    sources: tuple[str, ...],
    user: str | None,
    around: datetime | None,
    within: timedelta,
    app: str | None,
    provider: str | None,
    at: datetime | None,
    figure: Path | None,
    together: bool,
) -> int:
    """Show each attempt's hops, log events and time windows on one time axis, with corrected clocks.

    Without a SOURCE, --user and --around rebuild attempts from the loaded logs alone. Exit status: 0, 2 wrong usage or
    settings, 3 a source could not be read.
    """
    from trace_lens.diagnosis.judging import Options
    from trace_lens.logs.store.manifest import StoreProblem

    if (user is None) != (around is None):
        raise click.UsageError("--user and --around go together: whose attempts, and around which moment.")
    if user is not None and sources:
        raise click.UsageError("--user rebuilds attempts from the logs alone, and takes no SOURCE.")
    session.check_names(app, provider)
    book = logbook(session.workspace)
    unreadable: list[Json] = []
    try:
        if user is not None and around is not None:
            timeline = _rebuilt(book, user, around, within)
        else:
            options = Options(session.now, at, app, provider, with_logs=book is not None)
            timeline, unreadable = _of_sources(session, sources, options, book, together=together)
    except StoreProblem as error:
        tell(f"{error}.")
        return 3
    if figure and not draw_timeline(figure, timeline):
        return 2
    _show(session, timeline, unreadable)
    return 3 if unreadable else 0


def _rebuilt(book: Logbook | None, user: str, around: datetime, within: timedelta) -> Timeline:
    """A person's attempts around a moment, from the logs alone. Raises StoreProblem."""
    from trace_lens.diagnosis.timelines import of_rebuilt

    if book is None:
        raise click.UsageError("No logs are loaded yet; load them with: trace-lens logs load")
    return of_rebuilt(book.rebuild(user, around, within), book.sources, user)


def _of_sources(
    session: Session, sources: tuple[str, ...], options: Options, book: Logbook | None, *, together: bool
) -> tuple[Timeline, list[Json]]:
    """The attempts in the sources, and what could not be read. Raises StoreProblem."""
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.timelines import of_diagnoses
    from trace_lens.render import as_json

    if book is None:
        tell("No logs are loaded here; load them with: trace-lens logs load")
    read = session.sources(sources)
    result = diagnose_sources(read, session.workspace, options, together=together, logbook=book)
    tell_problem(result)
    return of_diagnoses(result), [as_json.unreadable(source, because) for source, because in result.unreadable]


def _show(session: Session, timeline: Timeline, unreadable: list[Json]) -> None:
    from trace_lens.render import as_json, json_timeline

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.timeline import timeline_pages

        return timeline_pages(timeline)

    def document() -> Json:
        attempts = [
            json_timeline.attempt(attempt, [as_json.step(step) for step in attempt.steps])
            for attempt in timeline.attempts
        ]
        return json_timeline.timeline(timeline, attempts, unreadable)

    session.emit(pages, document)
    if session.format == "text":
        for entry in unreadable:
            tell(f"{entry['source']}: {entry['because']}.")
