"""`trace-lens diagnose`."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.figures import FigureFile, draw
from trace_lens.cli.options import Moment, tell
from trace_lens.cli.progress import watched
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook, tell_problem

if TYPE_CHECKING:
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.diagnosis.judging import Options
    from trace_lens.workspace.trial_settings import TrialSetting

_SHOWN_EACH = 3
"""Up to how many attempts of several named files are each shown by itself."""


@click.command(
    epilog="Examples:\n\n  trace-lens diagnose response.txt --app crew-roster\n\n"
    "  trace-lens diagnose captures/ --format json\n\n  trace-lens diagnose network.har --figure way.png",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...")
@click.option(
    "--app",
    shell_complete=completing.apps,
    metavar="NAME",
    help="The message is for this application (default: chosen by the message).",
)
@click.option(
    "--provider",
    shell_complete=completing.providers,
    metavar="NAME",
    help="The message is from this provider (default: its issuer).",
)
@click.option(
    "--at", type=Moment(), metavar="TIME", help="Judge times as of this moment (default: what the capture shows)."
)
@click.option(
    "--set",
    "supposed",
    multiple=True,
    shell_complete=completing.keys,
    metavar="KEY=VALUE",
    help="Judge as if this setting of the application, or of its provider, were so; may be repeated.",
)
@click.option("--figure", type=FigureFile(), metavar="FILE", help="Draw the hops of each sign-in, as PNG or SVG.")
@click.option("--together", is_flag=True, help="Treat all sources as one sign-in attempt.")
@click.option(
    "--strict",
    is_flag=True,
    help="Exit status 1 also for an inconclusive diagnosis, and for a sign-in that went through against the record or "
    "although the application must refuse it.",
)
@click.option("-q", "--quiet", is_flag=True, help="One line for each sign-in.")
@with_session(
    "text", "json", "jsonl", "csv", "markdown", now=True, verbose="Show every finding with its evidence and remedy."
)
def command(
    session: Session,
    sources: tuple[str, ...],
    app: str | None,
    provider: str | None,
    at: datetime | None,
    supposed: tuple[str, ...],
    figure: Path | None,
    together: bool,
    strict: bool,
    quiet: bool,
) -> int:
    """Diagnose each sign-in found in the sources.

    A SOURCE is a file, a folder, a glob, or - for standard input. Says at which step the sign-in breaks, why, on whose
    side, and which value to set. Exit status: 0 nothing breaks, 1 something does, 2 wrong usage or settings, 3 a source
    could not be read, 130 interrupted. What was judged until an interruption is told as JSON Lines, and of many
    sources as text.
    """
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options

    session.check_names(app, provider)
    book = logbook(session.workspace)
    lines = session.format == "jsonl"
    options = Options(
        now=session.now,
        at=at,
        app=app,
        provider=provider,
        supposed=_read(supposed),
        with_logs=book is not None,
        prove=not lines,
    )
    if lines and book is None and not together and not figure:
        return _streamed(session, sources, options, strict=strict)
    with watched("sources") as told:
        read = session.sources(sources)
        brief = session.format in ("text", "markdown") and not (session.verbose or quiet or strict or figure)
        result = diagnose_sources(
            read,
            session.workspace,
            options,
            together=together,
            logbook=book,
            told=told,
            brief=brief,
            stops=session.format in ("text", "markdown") and not figure,
        )
    if result.left and (session.output or not sys.stdout.isatty()):  # the page says it too
        tell("Interrupted.")
    tell_problem(result)
    if figure and not draw(figure, result.diagnoses):
        return 2
    if lines or session.format == "csv":
        _row_by_row(session, result)
    else:
        few = len(sources) <= 1 or len(result.diagnoses) <= _SHOWN_EACH
        _show(session, result, quiet=quiet, details=few and _names_files(sources))
    return result.exit_status(strict=strict)


def _read(supposed: tuple[str, ...]) -> tuple[TrialSetting, ...]:
    from trace_lens.workspace.trial_settings import read_supposed

    try:
        return tuple(read_supposed(text) for text in supposed)
    except ValueError as error:
        raise click.UsageError(f"--set: {error}.") from None


def _show(session: Session, result: Result, *, quiet: bool, details: bool) -> None:
    from trace_lens.render import as_json

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.diagnosis import diagnosis_pages, quiet_pages

        return quiet_pages(result) if quiet else diagnosis_pages(result, full=session.verbose, details=details)

    unreadable = [as_json.unreadable(source, because) for source, because in result.unreadable]
    session.emit(pages, lambda: as_json.diagnoses(result.diagnoses, unreadable, session.masks, result.unplaced))


def _row_by_row(session: Session, result: Result) -> None:
    """One line for each attempt, as CSV or JSON; what could not be read goes to standard error."""
    if session.format == "csv":
        from trace_lens.render.csv_text import write_rows
        from trace_lens.render.rows import diagnosis_rows

        session.write(write_rows(diagnosis_rows(result.diagnoses)))
    else:
        from trace_lens.render import as_json

        session.emit_lines(as_json.attempt(diagnosis, session.masks) for diagnosis in result.diagnoses)
    for source, because in result.unreadable:
        tell(f"{source}: {because}")


def _streamed(session: Session, sources: tuple[str, ...], options: Options, *, strict: bool) -> int:
    """One line for each attempt as soon as it is known; the exit status."""
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.diagnosis.streaming import Streamed
    from trace_lens.render.attempt_lines import AttemptLines

    status = number = 0
    lines = AttemptLines(session.masks)

    def told_lines(stream: Streamed) -> Iterator[str]:
        nonlocal status, number
        for judged in stream.of(session.sources(sources)):
            status = max(status, Result(judged.diagnoses, judged.unreadable).exit_status(strict=strict))
            for source, because in judged.unreadable:
                tell(f"{source}: {because}")
            for diagnosis in judged.diagnoses:
                number += 1
                yield lines.line(diagnosis, number, judged.again)

    with watched("sources") as told:
        stream = Streamed(session.workspace, options, told)
        session.write_lines(told_lines(stream))
    if stream.late:
        words = (
            "belongs to an attempt that was told before it came"
            if stream.late == 1
            else ("belong to attempts that were told before they came")
        )
        tell(f"{stream.late} of the sources {words}: put what belongs together closer, or name it with --together.")
    return status


def _names_files(sources: tuple[str, ...]) -> bool:
    """Whether every source is one file, not a folder or a pattern."""
    return not any(Path(name).is_dir() or set(name) & set("*?[") for name in sources)
