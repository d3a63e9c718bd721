"""The reports of one run: whom they are for, and how they are written."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import tell

if TYPE_CHECKING:
    from trace_lens.common.findings import Side
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.diagnosis.judging import Diagnosis
    from trace_lens.render.document import Document, Figure
    from trace_lens.render.documents.report import Made
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.sources import SourceFile

Digests = tuple[tuple[str, str], ...]


class Reports:
    """The reports of one run: whom they are for, and how they are written."""

    def __init__(
        self,
        workspace: Workspace,
        result: Result,
        made: Made,
        *,
        side: Side | None = None,
        ask: bool = False,
        form: str = "html",
        reveal: bool = False,
    ) -> None:
        self.workspace, self.result, self.made, self.reveal = workspace, result, made, reveal
        self.side, self.ask, self.form = side, ask, form

    def one(self) -> str:
        """One report of all sign-ins."""
        from trace_lens.render.documents.report import nothing_pages, title_of

        diagnoses = self.result.diagnoses
        blocks: list[Any] = []
        for diagnosis in diagnoses:
            if len(diagnoses) > 1:
                from trace_lens.render.document import heading

                blocks.append(heading(f"{title_of(diagnosis, ask=self.ask)}, {diagnosis.source}", level=1))
            blocks += self._blocks(diagnosis)
        title = title_of(diagnoses[0], ask=self.ask) if len(diagnoses) == 1 else f"{len(diagnoses)} sign-ins"
        blocks = blocks or list(nothing_pages(self.result))
        return self._text(title if diagnoses else "No sign-in found", blocks)

    def write_folder(self, folder: Path) -> None:
        """An index by cause and a page for each sign-in."""
        from trace_lens.render.documents.report import index_pages, title_of

        folder.mkdir(parents=True, exist_ok=True)
        self.form = "html"
        pages = []
        for diagnosis in self.result.diagnoses:
            name = f"{diagnosis.id}-{re.sub(r'[^a-z0-9]+', '-', (diagnosis.app or 'unknown').lower())}.html"
            pages.append((diagnosis, name))
            self._save(folder / name, self._text(title_of(diagnosis, ask=self.ask), self._blocks(diagnosis)))
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
        return full_pages(diagnosis, self.made, self._way(diagnosis), self._axis(diagnosis), self._sides(diagnosis))

    def _way(self, diagnosis: Diagnosis) -> list[Figure]:
        """The way as a figure, where the form has figures and the capture shows a way."""
        if self.form != "html" or not diagnosis.details.steps:
            return []
        from trace_lens.render.document import Figure
        from trace_lens.render.figures.ladder import draw_ways

        count = len(diagnosis.details.steps)
        words = f"The way of the browser between application and provider in {count} steps; below they stand in words."
        return [Figure(draw_ways([diagnosis], "svg").decode(), words)]

    def _axis(self, diagnosis: Diagnosis) -> list[Figure]:
        """Hops and log events on one axis of time as a figure, where the form has figures and a log has events."""
        logs = diagnosis.details.logs
        if self.form != "html" or logs is None or not logs.events:
            return []
        from trace_lens.diagnosis.timelines import of_diagnoses
        from trace_lens.render.document import Figure
        from trace_lens.render.figures.timeline import draw_timelines

        found = of_diagnoses(self.result._replace(diagnoses=(diagnosis,)))
        words = f"Hops and {len(logs.events)} log events on one axis of true time; the table has the events in words."
        return [Figure(draw_timelines(found, "svg").decode(), words)]

    def _sides(self, diagnosis: Diagnosis) -> Document | None:
        """Both sides' values, where the application is on record."""
        known = self.workspace.apps.get(diagnosis.app) if diagnosis.app else None
        if known is None or known.is_interface:
            return None
        from trace_lens.comparison.comparing_sides import two_sides
        from trace_lens.render.documents.sides import values_table

        return values_table(two_sides(known, self.workspace, self.made.now, ()))

    def _text(self, title: str, blocks: Iterable[Any]) -> str:
        if self.form == "html":
            from trace_lens.render import html

            lead = f"Made by Trace Lens on {self.made.now:%Y-%m-%d}."
            masked = "" if self.reveal else " Secrets are left out; people have stand-ins, the same throughout."
            return html.write(html.Page(title, lead + masked, blocks, "Everything that this page needs is in it."))
        from trace_lens.render import markdown
        from trace_lens.render.document import heading

        return markdown.write([heading(title, level=1), *blocks])

    def _save(self, file: Path, text: str) -> None:
        from trace_lens.cli.output import write

        if self.reveal:
            for_owner_only(file)
        write(text, file)


def without_names(
    result: Result, digests: Digests, workspace: Workspace, masks: Masks, *, hides_files: bool = False
) -> tuple[Result, Digests]:
    """A result, and the names of its files, with stand-ins for people and without secrets.

    `hides_files` leaves out the names of files of the workspace.
    """
    from trace_lens.handover.stand_ins import StandIns, without_people
    from trace_lens.people.spellings import People

    people = StandIns(People(workspace, []), masks, hides_files=hides_files)
    found = without_people(result.diagnoses, people)
    unreadable = tuple((people.in_file_name(name), people.in_words(because)) for name, because in result.unreadable)
    named = tuple((people.in_file_name(name), digest) for name, digest in digests)
    return result._replace(diagnoses=tuple(found), unreadable=unreadable), named


def digests_of(sources: Iterable[SourceFile]) -> Digests:
    """The sources that could be read, with the SHA-256 digest of each."""
    return tuple((source.name, digest) for source in sources if (digest := _digest(source)))


def _digest(source: SourceFile) -> str | None:
    if source.data is not None:
        return hashlib.sha256(source.data).hexdigest()
    if source.path is None:
        return None
    with source.path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def for_owner_only(file: Path) -> None:
    """Make a file that is to hold secrets readable for its owner only, from the first moment on."""
    try:
        os.close(os.open(file, os.O_CREAT | os.O_WRONLY, 0o600))
        file.chmod(0o600)
    except OSError as error:
        raise click.UsageError(f"--output: {file} cannot be written: {error.strerror}") from None
