"""`trace-lens timeline`."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import click

from trace_lens.cli import completing
from trace_lens.cli.figures import FigureFile, draw_timeline
from trace_lens.cli.options import Duration, Moment, tell
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook, tell_problem


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
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.diagnosis.timelines import of_diagnoses, of_rebuilt
    from trace_lens.logs.store.manifest import StoreProblem
    from trace_lens.render import as_json, json_timeline

    if (user is None) != (around is None):
        raise click.UsageError("--user and --around go together: whose attempts, and around which moment.")
    if user is not None and sources:
        raise click.UsageError("--user rebuilds attempts from the logs alone, and takes no SOURCE.")
    workspace = session.workspace
    session.check_names(app, provider)
    book = logbook(workspace)
    unreadable: list[as_json.Json] = []
    try:
        if user is not None and around is not None:
            if book is None:
                raise click.UsageError("No logs are loaded yet; load them with: trace-lens logs load")
            timeline = of_rebuilt(book.rebuild(user, around, within), book.sources, user)
        else:
            if book is None:
                tell("No logs are loaded here; load them with: trace-lens logs load")
            options = Options(session.now, at, app, provider, with_logs=book is not None)
            result = diagnose_sources(session.sources(sources), workspace, options, together=together, logbook=book)
            tell_problem(result)
            timeline = of_diagnoses(result)
            unreadable = [as_json.unreadable(source, because) for source, because in result.unreadable]
    except StoreProblem as error:
        tell(f"{error}.")
        return 3
    if figure and not draw_timeline(figure, timeline):
        return 2

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.timeline import timeline_pages

        return timeline_pages(timeline)

    def document() -> as_json.Json:
        attempts = [
            json_timeline.attempt(attempt, [as_json.step(step) for step in attempt.steps])
            for attempt in timeline.attempts
        ]
        return json_timeline.timeline(timeline, attempts, unreadable)

    session.emit(pages, document)
    if session.format == "text":
        for entry in unreadable:
            tell(f"{entry['source']}: {entry['because']}.")
    return 3 if unreadable else 0
