"""`trace-lens report`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from trace_lens.cli import completing
from trace_lens.cli.options import Moment
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook, tell_problem

if TYPE_CHECKING:
    from trace_lens.common.findings import Side

_ENDINGS = {".html": "html", ".htm": "html", ".md": "markdown", ".markdown": "markdown"}


@click.command(
    epilog="Examples:\n\n  trace-lens report captures/0142.har --output 0142.html\n\n"
    "  trace-lens report captures/0142.har --for provider --output letter.md\n\n"
    "  trace-lens report captures/0142.txt --ask\n\n  trace-lens report captures/ --folder reports",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...")
@click.option(
    "--for",
    "side",
    type=click.Choice(["application", "provider", "user"]),
    help="Write for this side: what it must do, in its words, and nothing that is not its own (default: everything).",
)
@click.option("--ask", is_flag=True, help="Write the letter that asks for what would answer the open questions.")
@click.option(
    "--folder",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Write an index by cause and one HTML page for each sign-in into this folder.",
)
@click.option("--app", shell_complete=completing.apps, metavar="NAME", help="The message is for this application.")
@click.option(
    "--provider", shell_complete=completing.providers, metavar="NAME", help="The message is from this provider."
)
@click.option(
    "--at", type=Moment(), metavar="TIME", help="Judge times as of this moment (default: what the capture shows)."
)
@click.option("--together", is_flag=True, help="Treat all sources as one sign-in attempt.")
@with_session("markdown", "html", now=True, verbose="")
def command(
    session: Session,
    sources: tuple[str, ...],
    side: str | None,
    ask: bool,
    folder: Path | None,
    app: str | None,
    provider: str | None,
    at: datetime | None,
    together: bool,
) -> int:
    """Write a report of sign-ins that can be handed over: one HTML page, or Markdown for a ticket.

    The end of the name that --output gives tells the form; without --output, Markdown goes to standard output. Secrets
    are left out and people have stand-ins (person 1), the same throughout, unless --reveal is given. Exit status as
    diagnose has it.
    """
    from trace_lens.cli.reports import Reports, digests_of, for_owner_only, without_names
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.render.documents.report import Made

    if folder and session.output:
        raise click.UsageError("--folder and --output exclude each other: a folder has a page for each sign-in.")
    form = _form(session)
    workspace = session.workspace
    session.check_names(app, provider)
    book = logbook(workspace)
    options = Options(now=session.now, at=at, app=app, provider=provider, with_logs=book is not None, prove=True)
    read = list(session.sources(sources))
    result = diagnose_sources(iter(read), workspace, options, together=together, logbook=book)
    tell_problem(result)
    digests = digests_of(read)
    if not session.reveal:
        result, digests = without_names(result, digests, workspace, session.masks, hides_files=side is not None)
    work = Reports(
        workspace,
        result,
        Made(session.now, digests, named=session.reveal),
        side=_side(side),
        ask=ask,
        form=form,
        reveal=session.reveal,
    )
    if folder:
        work.write_folder(folder)
    else:
        if session.output and session.reveal:
            for_owner_only(session.output)
        session.write(work.one())
    return result.exit_status(strict=False)


def _form(session: Session) -> str:
    """The form that the name of the output, or the option, asks for."""
    if session.output is None:
        return session.format
    form = _ENDINGS.get(session.output.suffix.lower())
    if form is None:
        raise click.UsageError(f"--output: {session.output} must end in .html or .md.")
    return form


def _side(name: str | None) -> Side | None:
    from trace_lens.common.findings import Side

    return Side(name) if name else None
