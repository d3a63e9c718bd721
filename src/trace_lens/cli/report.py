"""`trace-lens report`."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import Moment, tell
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook, tell_problem

if TYPE_CHECKING:
    from trace_lens.common.findings import Side
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.diagnosis.judging import Diagnosis
    from trace_lens.render.document import Document, Figure
    from trace_lens.render.documents.report import Made

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
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.handover.stand_ins import StandIns, without_people
    from trace_lens.people.spellings import People
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
    digests = tuple(
        (source.name, hashlib.sha256(source.data).hexdigest()) for source in read if source.data is not None
    )
    if not session.reveal:
        people = StandIns(People(workspace, []), session.masks)
        found = without_people(result.diagnoses, people)
        unreadable = tuple((people.in_words(name), people.in_words(because)) for name, because in result.unreadable)
        result = result._replace(diagnoses=tuple(found), unreadable=unreadable)
        digests = tuple((people.in_words(name), digest) for name, digest in digests)
    made = Made(session.now, digests)
    work = _Reports(session, result, made, side=_side(side), ask=ask, form=form)
    if folder:
        work.write_folder(folder)
    else:
        work.write_one()
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


class _Reports:
    """The reports of one run: whom they are for, and how they are written."""

    def __init__(
        self, session: Session, result: Result, made: Made, *, side: Side | None, ask: bool, form: str
    ) -> None:
        self.session, self.result, self.made = session, result, made
        self.side, self.ask, self.form = side, ask, form

    def write_one(self) -> None:
        """One report of all sign-ins, to the output."""
        from trace_lens.render.documents.report import nothing_pages, title_of

        diagnoses = self.result.diagnoses
        blocks: list[Any] = []
        for diagnosis in diagnoses:
            if len(diagnoses) > 1:
                from trace_lens.render.document import heading

                blocks.append(heading(f"{title_of(diagnosis)}, {diagnosis.source}", level=1))
            blocks += self._blocks(diagnosis)
        title = title_of(diagnoses[0]) if len(diagnoses) == 1 else f"{len(diagnoses)} sign-ins"
        blocks = blocks or list(nothing_pages(self.result))
        text = self._text(title if diagnoses else "No sign-in found", blocks)
        self._put(text)

    def write_folder(self, folder: Path) -> None:
        """An index by cause and a page for each sign-in."""
        from trace_lens.render.documents.report import index_pages, title_of

        folder.mkdir(parents=True, exist_ok=True)
        self.form = "html"
        pages = []
        for diagnosis in self.result.diagnoses:
            name = f"{diagnosis.id}-{re.sub(r'[^a-z0-9]+', '-', (diagnosis.app or 'unknown').lower())}.html"
            pages.append((diagnosis, name))
            self._save(folder / name, self._text(title_of(diagnosis), self._blocks(diagnosis)))
        count = len(pages)
        title = f"{count} sign-in{'' if count == 1 else 's'}"
        self._save(folder / "index.html", self._text(title, index_pages(self.result, pages)))
        tell(f"{count + 1} pages are written: open {folder / 'index.html'}.")

    def _blocks(self, diagnosis: Diagnosis) -> Iterable[Any]:
        """What the report of one sign-in says to those whom it is for."""
        from trace_lens.common.findings import Side
        from trace_lens.render.documents.report import ask_pages, full_pages, side_pages, user_pages

        if self.ask:
            return ask_pages(diagnosis, self.made, self.side)
        if self.side is Side.USER:
            return user_pages(diagnosis, self.made)
        if self.side is not None:
            return side_pages(diagnosis, self.side, self.made)
        return full_pages(diagnosis, self.made, self._figures(diagnosis), self._sides(diagnosis))

    def _figures(self, diagnosis: Diagnosis) -> list[Figure]:
        """The way as a figure, where the form has figures and the capture shows a way."""
        if self.form != "html" or not diagnosis.details.steps:
            return []
        from trace_lens.render.document import Figure
        from trace_lens.render.figures.ladder import draw_ways

        svg = draw_ways([diagnosis], "svg").decode()
        count = len(diagnosis.details.steps)
        words = f"The way of the browser between application and provider in {count} steps; below they stand in words."
        return [Figure(svg, words)]

    def _sides(self, diagnosis: Diagnosis) -> Document | None:
        """Both sides' values, where the application is on record."""
        known = self.session.workspace.apps.get(diagnosis.app) if diagnosis.app else None
        if known is None or known.is_interface:
            return None
        from trace_lens.comparison.comparing_sides import two_sides
        from trace_lens.render.documents.sides import values_table

        return values_table(two_sides(known, self.session.workspace, self.session.now, ()))

    def _text(self, title: str, blocks: Iterable[Any]) -> str:
        if self.form == "html":
            from trace_lens.render import html

            lead = f"Made by Trace Lens on {self.made.now:%Y-%m-%d}."
            masked = "" if self.session.reveal else " Secrets are left out; people have stand-ins, the same throughout."
            return html.write(html.Page(title, lead + masked, blocks, "Everything that this page needs is in it."))
        from trace_lens.render import markdown
        from trace_lens.render.document import heading

        return markdown.write([heading(title, level=1), *blocks])

    def _put(self, text: str) -> None:
        if self.session.output and self.session.reveal:
            self._private(self.session.output)
        self.session.write(text)

    def _save(self, file: Path, text: str) -> None:
        from trace_lens.cli.output import write

        if self.session.reveal:
            self._private(file)
        write(text, file)

    @staticmethod
    def _private(file: Path) -> None:
        """A file that holds secrets is for its owner only, from the first moment on."""
        try:
            os.close(os.open(file, os.O_CREAT | os.O_WRONLY, 0o600))
            file.chmod(0o600)
        except OSError as error:
            raise click.UsageError(f"--output: {file} cannot be written: {error.strerror}") from None
