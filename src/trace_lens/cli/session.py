"""What every command works with: the workspace, the clock, masks, and the one way out for its result."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import (
    color_options,
    known,
    now_option,
    open_workspace,
    report_settings,
    sources_of,
    verbose_options,
    workspace_options,
)
from trace_lens.cli.output import Put, write, write_pieces

if TYPE_CHECKING:
    from trace_lens.common.masking import Masks
    from trace_lens.workspace.records import App, Workspace
    from trace_lens.workspace.sources import SourceFile

Command = Callable[..., int]


class Session:
    """One run of a command: where its settings are, what counts as the current time, and how its result is written."""

    def __init__(self, options: dict[str, Any]) -> None:
        """`options` are the values of the shared options; they are taken out of it."""
        self._folder: Path | None = options.pop("workspace_dir", None)
        self._now: datetime | None = options.pop("now", None)
        self.format: str = options.pop("form", "text")
        self.output: Path | None = options.pop("output", None)
        self.reveal: bool = options.pop("reveal", False)
        self.verbose: bool = options.pop("verbose", False)
        self._color: str = options.pop("color", "auto")

    @cached_property
    def workspace(self) -> Workspace:
        """The workspace that the user means; an empty one where there is none. Wrong settings end the command."""
        return open_workspace(self._folder)

    @property
    def root(self) -> Path:
        """The folder of the workspace. Where there is none, the command ends."""
        if self.workspace.root is None:
            raise click.UsageError("There is no workspace here. Create one with: trace-lens init")
        return self.workspace.root

    @cached_property
    def now(self) -> datetime:
        """The current time: as the option says, otherwise by the system clock."""
        return self._now or datetime.now(UTC)

    @property
    def now_given(self) -> datetime | None:
        """The current time that the option gives, if it does."""
        return self._now

    @cached_property
    def masks(self) -> Masks:
        """How secrets are written."""
        from trace_lens.common.masking import Masks

        return Masks(reveal=self.reveal)

    def app(self, name: str) -> App:
        """The application that an argument names. One that is not on record ends the command."""
        known("", name, self.workspace.apps)
        return self.workspace.apps[name]

    def check_names(self, app: str | None, provider: str | None = None) -> None:
        """End the command where the option `--app` or `--provider` names what is not on record."""
        known("--app: ", app, self.workspace.apps)
        known("--provider: ", provider, self.workspace.providers)

    def sources(self, names: tuple[str, ...]) -> Iterator[SourceFile]:
        """The sources that are named; with none, standard input or a paste."""
        return sources_of(names)

    def emit(self, document: Callable[[], Iterable[Any]], json: Callable[[], Any], rows: str = "") -> None:
        """Write the result in the form that was asked for; only that one is made.

        `rows` names the list in the JSON that is the table of `csv` and `jsonl`.
        """
        if self.format == "csv":
            from trace_lens.render.csv_text import write_rows
            from trace_lens.render.rows import rows_of

            write(write_rows(rows_of(json()[rows])), self.output)
        elif self.format == "jsonl":
            self.emit_lines(json()[rows])
        elif self.format in ("json", "sarif"):
            from trace_lens.render import as_json

            write_pieces(partial(as_json.write, json()), self.output)
        elif self.format == "markdown":
            from trace_lens.render import markdown

            write(markdown.write(document()), self.output)
        else:
            from trace_lens.render.terminal import writing

            write(writing.write(document(), self._color, to_file=self.output is not None), self.output)

    def emit_lines(self, items: Iterable[Any]) -> None:
        """Write items as JSON Lines, each as soon as it is made."""
        from trace_lens.render import as_json

        self.write_lines(map(as_json.line, items))

    def write_lines(self, lines: Iterable[str]) -> None:
        """Write lines, each as soon as it is made."""

        def pieces(put: Put) -> None:
            for line in lines:
                put(line + "\n")

        write_pieces(pieces, self.output)

    def write(self, text: str) -> None:
        """Write a result that is text already."""
        write(text, self.output)


def with_session(
    *formats: str, workspace: bool = True, now: bool | str = False, verbose: str | None = ""
) -> Callable[[Command], Command]:
    """Give a command a Session in the place of the shared options.

    `workspace` adds `--workspace` and `--trust-workspace`. `now` adds `--now`; a text says what counts where it is not
    given, otherwise the system clock does. `verbose` is what `-v` shows more of; it is empty where `-v` shows only
    where the program failed, and None where there is no such option. Wrong settings are reported, and end the command
    with 2.
    """

    def decorate(command: Command) -> Command:
        @functools.wraps(command)
        def run(**options: Any) -> int:
            from trace_lens.workspace.problems import SettingsError

            session = Session(options)
            try:
                return command(session, **options)
            except SettingsError as error:
                report_settings(error)
                return 2

        shared: list[Callable[[Command], Command]] = list(color_options(formats))
        shared += workspace_options() if workspace else []
        shared += verbose_options(verbose)
        if now:
            shared.append(now_option(now if isinstance(now, str) else "the system clock"))
        made: Command = run
        for option in shared:
            made = option(made)
        return made

    return decorate
