"""`trace-lens expiry`."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from pathlib import Path
from typing import Any

import click

from trace_lens.cli.figures import FigureFile, draw_year
from trace_lens.cli.options import Duration
from trace_lens.cli.session import Session, with_session

_USUAL = timedelta(days=60)


@click.command(
    epilog="Examples:\n\n  trace-lens expiry\n\n  trace-lens expiry --within 365d --format ics --output ends.ics\n\n"
    "  trace-lens expiry --format openmetrics > /var/lib/metrics/trace-lens.prom",
)
@click.option(
    "--within",
    "span",
    type=Duration(),
    metavar="DURATION",
    help="What ends within this time (default: 60d; ics and openmetrics have every date unless it is given).",
)
@click.option("--figure", type=FigureFile(), metavar="FILE", help="Draw the year ahead, as PNG or SVG.")
@with_session("text", "json", "jsonl", "csv", "markdown", "ics", "openmetrics", now=True, verbose="")
def command(session: Session, span: timedelta | None, figure: Path | None) -> int:
    """Show what ends when, and whom it hits: certificates, client secrets, metadata, keys of tokens.

    And, for every provider that publishes a next certificate, which applications are ready for it. A date in the past
    counts as within. Exit status: 0, or 1 where a date lies within the time, for a nightly job.
    """
    from trace_lens.fleet.dates import endings, within
    from trace_lens.fleet.rollovers import rollovers

    workspace, now = session.workspace, session.now
    _ = session.root
    every = endings(workspace)
    near = within(every, now, span or _USUAL)
    if figure and not draw_year(figure, every, now):
        return 2
    shown = every if session.format in ("ics", "openmetrics") and span is None else near
    if session.format == "ics":
        from trace_lens.render.calendar import write_calendar

        session.write(write_calendar(shown, now))
        return int(bool(near))
    if session.format == "openmetrics":
        from trace_lens.render.openmetrics import write_metrics

        session.write(write_metrics(shown))
        return int(bool(near))
    changing = rollovers(workspace, now)
    following = next((ending for ending in every if ending not in near), None)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.expiry import expiry_pages

        return expiry_pages(near, changing, workspace, now, span or _USUAL, following)

    from trace_lens.render import json_fleet

    session.emit(
        pages, lambda: json_fleet.expiry(near, changing, now, span or _USUAL, as_rows=session.format == "csv"), "dates"
    )
    return int(bool(near))
