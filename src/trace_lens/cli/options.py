"""The options that commands share, and what every command does with them."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from trace_lens.common.masking import visible
from trace_lens.common.moments import MomentError, read_duration, read_spoken_moment, show_moment
from trace_lens.common.secrets_in_text import without_tokens

if TYPE_CHECKING:
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.sources import SourceFile
    from trace_lens.workspace.trusting import Trust

F = TypeVar("F", bound=Callable[..., Any])


class Moment(click.ParamType):  # type: ignore[type-arg]  # not generic in older versions
    """A moment on the command line, as people write it; one without a zone is in the machine's, and that is said."""

    name = "TIME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """Read it, or fail with the form that is expected."""
        if isinstance(value, datetime):
            return value
        now = (ctx.params.get("now") if ctx else None) or datetime.now(UTC)
        try:
            read = read_spoken_moment(str(value), now, _machine_zone())
        except MomentError as error:
            self.fail(str(error), param, ctx)
        if read.assumed:
            name = f"--{param.name.replace('_', '-')}: " if param and param.name else ""
            tell(f"{name}{value} names no zone; read as {show_moment(read.moment)} ({read.assumed}).")
        return read.moment


def _machine_zone() -> tzinfo:
    """The zone of the machine, with its rules where they can be had (an hour in summer has summer's offset)."""
    from zoneinfo import ZoneInfo

    name = os.environ.get("TZ", "").lstrip(":")
    link = os.path.realpath("/etc/localtime")
    for key in (name, link.partition("/zoneinfo/")[2]):
        try:
            return ZoneInfo(key)
        except (ValueError, OSError, KeyError):
            continue
    return datetime.now().astimezone().tzinfo or UTC


class Duration(click.ParamType):  # type: ignore[type-arg]  # not generic in older versions
    """A duration on the command line: `90s`, `15m`, `2h`."""

    name = "DURATION"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> timedelta:
        """Read it, or fail with the form that is expected."""
        if isinstance(value, timedelta):
            return value
        try:
            return read_duration(str(value))
        except MomentError as error:
            self.fail(str(error), param, ctx)


def workspace_options() -> list[Callable[[Any], Any]]:
    """`--workspace` and `--trust-workspace`, the last first, as decorators are applied."""
    return [
        click.option(
            "--trust-workspace",
            is_flag=True,
            expose_value=False,
            callback=_remember_trust,
            help="Use files, and a store, that the settings name outside the workspace.",
        ),
        click.option(
            "--workspace",
            "workspace_dir",
            type=click.Path(path_type=Path),
            metavar="DIR",
            envvar="TRACE_LENS_WORKSPACE",
            help="The folder with trace-lens.toml (default: TRACE_LENS_WORKSPACE, or the nearest one upwards).",
        ),
    ]


_TRUST = "trace_lens.trust"


def _remember_trust(context: click.Context, _: click.Parameter, wanted: bool) -> None:
    context.meta[_TRUST] = wanted


def _trust(root: Path) -> Trust:
    """What the workspace may lead to: as told, as the user's configuration says, else as the user answers."""
    from trace_lens.workspace.trusting import Trust, trusted_by_user

    if click.get_current_context().meta.get(_TRUST) or trusted_by_user(root):
        return Trust(everything=True)

    def ask(what: str) -> bool:
        return click.confirm(f"The workspace {visible(str(root))} names {visible(what)}. Follow it?", err=True)

    return Trust(ask=ask if sys.stdin.isatty() and sys.stderr.isatty() else None)


def color_options(formats: tuple[str, ...]) -> list[Callable[[Any], Any]]:
    """`--format`, `--output`, `--reveal` and `--color`, the last first; none where there are no formats."""
    if not formats:
        return []
    return [
        click.option(
            "--color",
            type=click.Choice(["auto", "always", "never"]),
            default="auto",
            show_default=True,
            help="Colour in the text. NO_COLOR is respected too.",
        ),
        click.option("--reveal", is_flag=True, help="Show secrets unmasked."),
        click.option(
            "--output",
            type=click.Path(path_type=Path, dir_okay=False),
            metavar="FILE",
            help="Write to this file, not to standard output.",
        ),
        click.option("--format", "form", type=click.Choice(formats), default=formats[0], show_default=True),
    ]


def now_option(default: str) -> Callable[[Any], Any]:
    """`--now`; `default` says what counts where it is not given."""
    words = f"Treat TIME as the current time (default: {default})."
    return click.option("--now", type=Moment(), metavar="TIME", help=words, is_eager=True)


def verbose_options(more: str | None) -> list[Callable[[Any], Any]]:
    """`-v`: more of the output, as `more` says, and where the program failed, should it; no option where it is None."""
    if more is None:
        return []
    words = more or "Show where the program failed, if it fails."
    return [click.option("-v", "--verbose", is_flag=True, help=words, callback=_show_tracebacks)]


def _show_tracebacks(_: click.Context, __: click.Parameter, wanted: bool) -> bool:
    """Send what the guards put into the log to standard error."""
    if wanted:
        import logging

        from trace_lens.common.guarding import LOGGER

        class Shown(logging.Formatter):
            """Tracebacks may quote what was read: control characters in them are made visible too."""

            def format(self, record: logging.LogRecord) -> str:
                return "\n".join(visible(line) for line in super().format(record).splitlines())

        handler = logging.StreamHandler(sys.stderr)
        handler.setFormatter(Shown("%(message)s"))
        logger = logging.getLogger(LOGGER)
        logger.addHandler(handler)
        logger.setLevel(logging.DEBUG)
    return wanted


def say(text: str) -> None:
    """Lines for standard output that are no data; whatever they quote is made visible."""
    click.echo("\n".join(visible(without_tokens(line)) for line in text.split("\n")))


def tell(text: str) -> None:
    """A line for the person at the terminal, on standard error; whatever it quotes is made visible."""
    click.echo(visible(without_tokens(text)), err=True)


def open_workspace(folder: Path | None) -> Workspace:
    """The workspace that the user means; an empty one where there is none. Wrong settings end the command."""
    from trace_lens.workspace.loading import ROOT_FILE, find_workspace, load_workspace
    from trace_lens.workspace.problems import SettingsError
    from trace_lens.workspace.records import Workspace

    if folder is not None and not (folder / ROOT_FILE).is_file():
        raise click.UsageError(
            f"--workspace: there is no {ROOT_FILE} in {folder}. Make one with: trace-lens init {folder}"
        )
    root = folder or find_workspace(Path.cwd())
    ask = ask_password if sys.stderr.isatty() else None
    if root is None:
        return Workspace(ask=ask, trust=_trust(Path.cwd()))
    try:
        return load_workspace(root, ask, _trust(root))
    except SettingsError as error:
        report_settings(error)
        raise click.exceptions.Exit(2) from None


def ask_password(what: str) -> str | None:
    """A password from the terminal, not from standard input, and not shown."""
    import getpass

    try:
        return getpass.getpass(f"{what}: ", sys.stderr)
    except (EOFError, OSError):
        return None


def report_settings(error: Any) -> None:
    """All that is wrong in the settings, one line each, on standard error."""
    count = len(error.problems)
    click.echo(f"The workspace has {count} wrong setting{'' if count == 1 else 's'}:", err=True)
    for problem in error.problems:
        tell(f"  {problem}")


def known(option: str, name: str | None, names: dict[str, Any]) -> None:
    """End the command where an application or provider that was named is not on record.

    `option` is the option that names it, with a colon, and empty where an argument does.
    """
    if name is None or name in names:
        return
    from trace_lens.common.difference import nearest

    near = nearest(name, sorted(names))
    if near:
        hint = f"Did you mean {near}?"
    elif names:
        hint = f"On record: {', '.join(sorted(names)[:12])}."
    else:
        hint = "There is no workspace here, or it is empty. Create one with: trace-lens init"
    raise click.UsageError(f"{option}{name!r} is not on record. {hint}")


def sources_of(names: tuple[str, ...]) -> Iterator[SourceFile]:
    """The sources named; `-` is standard input, and with none named a terminal is asked for a paste."""
    from trace_lens.workspace.sources import bounded, read_sources

    if not names and sys.stdin.isatty():
        from trace_lens.cli.pasting import Pasted

        with Pasted(sys.stdin.fileno()) as paste:
            click.echo("Paste the message here. To end it, press Ctrl-D.", err=True)
            source = bounded("-", paste)
        click.echo(err=True)
        yield source
        return
    for name in names or ("-",):
        if name == "-":
            yield bounded("-", sys.stdin.buffer)
        else:
            yield from read_sources((name,))
