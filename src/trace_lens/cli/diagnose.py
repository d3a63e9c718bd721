"""`trace-lens diagnose`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli.figures import FigureFile, draw
from trace_lens.cli.options import (
    Moment,
    clock,
    faults_option,
    known,
    now_option,
    open_workspace,
    output_options,
    report_settings,
    sources_of,
    tell,
    workspace_option,
    write,
)
from trace_lens.cli.with_logs import logbook, tell_problem


@click.command(
    epilog="Examples:\n\n  trace-lens diagnose response.txt --app crew-roster\n\n"
    "  trace-lens diagnose captures/ --format json\n\n  trace-lens diagnose network.har --figure way.png",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...")
@click.option("--app", metavar="NAME", help="The application that the message is for.")
@click.option("--provider", metavar="NAME", help="The provider that sent it.")
@click.option("--at", type=Moment(), metavar="TIME", help="Judge times as of this moment.")
@click.option(
    "--set",
    "supposed",
    multiple=True,
    metavar="KEY=VALUE",
    help="Judge as if this setting of the application, or of its provider, were so; may be repeated.",
)
@click.option("--figure", type=FigureFile(), metavar="FILE", help="Draw the way of each sign-in, as PNG or SVG.")
@click.option("--together", is_flag=True, help="All sources are of one attempt.")
@now_option
@click.option(
    "--strict",
    is_flag=True,
    help="Exit status 1 also for an inconclusive diagnosis, and for a sign-in that went through against the record or "
    "although the application must refuse it.",
)
@faults_option
@workspace_option
@output_options("text", "json", "jsonl")
def command(
    sources: tuple[str, ...],
    app: str | None,
    provider: str | None,
    at: datetime | None,
    supposed: tuple[str, ...],
    figure: Path | None,
    together: bool,
    now: datetime | None,
    strict: bool,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Diagnose each sign-in found in the sources.

    A SOURCE is a file, a folder, a glob, or - for standard input. Says at which step the sign-in breaks, why, on whose
    side, and which value to set. Exit status: 0 nothing breaks, 1 something does, 2 wrong usage or settings, 3 a source
    could not be read.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.judging import Circumstances
    from trace_lens.diagnosis.many import diagnose_sources
    from trace_lens.render import as_json
    from trace_lens.workspace.problems import SettingsError
    from trace_lens.workspace.supposing import read_supposed

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    known("provider", provider, workspace.providers)
    try:
        settings = tuple(read_supposed(one) for one in supposed)
    except ValueError as error:
        raise click.UsageError(f"--set: {error}.") from None
    book = logbook(workspace)
    told = Circumstances(clock(now), at, app, provider, settings, with_logs=book is not None, prove=form != "jsonl")
    try:
        result = diagnose_sources(sources_of(sources), workspace, told, together=together, logbook=book)
    except SettingsError as error:
        report_settings(error)
        return 2
    tell_problem(result)
    if figure and not draw(figure, result.diagnoses):
        return 2
    masks = Masks(reveal=reveal)
    unreadable = [as_json.unreadable(source, because) for source, because in result.unreadable]
    if form == "json":
        write(as_json.dump(as_json.diagnoses(result.diagnoses, unreadable, masks, result.unplaced)), output)
    elif form == "jsonl":
        write("\n".join(as_json.dump(as_json.attempt(one, masks), lines=True) for one in result.diagnoses), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.diagnosis import diagnosis_pages

        write(pages.render(diagnosis_pages(result), color, to_file=output is not None), output)
    if form == "jsonl":
        for source, because in result.unreadable:
            tell(f"{source}: {because}")
    return result.exit_status(strict=strict)
