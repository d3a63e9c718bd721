"""`trace-lens logs`."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.groups import FullHelp
from trace_lens.cli.options import Moment, tell
from trace_lens.cli.session import Session, with_session
from trace_lens.common.expressions import expression
from trace_lens.common.masking import visible

if TYPE_CHECKING:
    from trace_lens.logs.recognising.known import Known
    from trace_lens.logs.store.store import EventStore
    from trace_lens.workspace.log_sources import LogSource

_EVERY = 0.2
"""Seconds between two words of progress."""
_NAME = expression(r"[A-Za-z0-9][\w.-]*")


@click.group(cls=FullHelp)
def command() -> None:
    """Check, load, list and search sign-in logs."""


@command.command(
    "check",
    epilog="Examples:\n\n  trace-lens logs check export.csv.gz\n\n"
    "  trace-lens logs check export.csv.gz --write id-sign-ins\n\n"
    "  trace-lens logs check export.csv.gz --source id-sign-ins",
)
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--source", metavar="NAME", help="Read it by this description (default: the one that names the file).")
@click.option("--write", "save_as", metavar="NAME", help="Save the proposed description as logs/NAME.toml.")
@with_session("text", "json")
def check_command(session: Session, file: Path, source: str | None, save_as: str | None) -> int:
    """Read a sample of a log file and show how each column was understood.

    For a file that no description names, one is proposed: format, columns, form of the times, words for outcomes, and
    whose log it is. Columns are known by what they hold: people and applications on record, ids of the captures in
    captures/. Exit status: 0, or 3 where the file cannot be read at all.
    """
    from trace_lens.logs.formats.rows import Unreadable
    from trace_lens.logs.recognising.checking import check_for
    from trace_lens.render import json_logs
    from trace_lens.workspace.log_sources import log_sources

    workspace = session.workspace
    described = log_sources(workspace)
    if source is not None:
        _known_source(source, described)
    if save_as is not None and not _NAME.fullmatch(save_as):
        raise click.UsageError(f"--write {save_as}: a name has letters, digits, dots, dashes and underscores only.")
    try:
        found = check_for(workspace, file, described[source] if source else None, lambda: _known(session), save_as)
    except (Unreadable, OSError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        tell(f"{file}: {reason[0].lower()}{reason[1:]}.")
        return 3
    if save_as and found.proposed:
        _save(session, save_as, found.proposed)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.logs import checked_pages

        return checked_pages(found)

    session.emit(pages, lambda: json_logs.checked_log(found))
    return 0


def _save(session: Session, name: str, proposed: str) -> None:
    from trace_lens.workspace.log_sources import FOLDER, save_description

    if session.workspace.root is None:
        raise click.UsageError("--write: there is no workspace here; name one with --workspace.")
    try:
        file = save_description(session.workspace.root, name, proposed)
    except FileExistsError:
        raise click.UsageError(f"--write: {FOLDER}/{name}.toml is there already, and nothing is overwritten.") from None
    tell(f"{file} is written; check what it says, the role first.")


def _known(session: Session) -> Known | None:
    """What the workspace and its captures know; None where there is no workspace."""
    from trace_lens.diagnosis.carried import carried_by_captures
    from trace_lens.logs.recognising.known import known_to

    workspace = session.workspace
    return known_to(workspace, carried_by_captures(workspace, session.now)) if workspace.root else None


def _known_source(name: str, sources: dict[str, LogSource]) -> None:
    if name not in sources:
        from trace_lens.common.difference import nearest

        near = nearest(name, sorted(sources))
        raise click.UsageError(
            f"--source {name}: there is no logs/{name}.toml." + (f" Did you mean {near}?" if near else "")
        )


@command.command("load", epilog="Examples:\n\n  trace-lens logs load\n\n  trace-lens logs load --source northmere-id")
@click.option(
    "--source", "only", multiple=True, metavar="NAME", help="Load only the files of this source; may be repeated."
)
@with_session("text", "json")
def load_command(session: Session, only: tuple[str, ...]) -> int:
    """Load the files that the descriptions name into the event store of the workspace.

    The same content again adds nothing; a file that has grown adds its new rows. Bad rows are counted and kept aside.
    Exit status: 0, or 3 where a file could not be read at all.
    """
    from trace_lens.diagnosis.logbook import keep_clocks
    from trace_lens.logs.store.loading import load_all
    from trace_lens.logs.store.store import EventStore
    from trace_lens.workspace.log_sources import log_sources

    workspace, root = session.workspace, session.root
    sources = log_sources(workspace)
    for name in only:
        _known_source(name, sources)
    begin = datetime.now(UTC)
    wanted = [source for source in sources.values() if not only or source.id in only]
    files = [file for source in wanted for file in source.files_in(root)]
    with _opened(EventStore(root, workspace.settings.store, writing=True, files=files)) as store:
        watched = sys.stderr.isatty()
        loaded = load_all(store, wanted, root, lambda name: _progress(name) if watched else None)
        if watched:
            click.echo("\r\x1b[K", err=True, nl=False)
        keep_clocks(workspace, store)
    seconds = (datetime.now(UTC) - begin).total_seconds()

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.logs import loaded_pages

        return loaded_pages(loaded, seconds)

    from trace_lens.render import json_logs

    session.emit(pages, lambda: json_logs.loaded_logs(loaded))
    return 3 if any(loading.problem for loading in loaded) else 0


@contextmanager
def _opened(store: EventStore) -> Iterator[EventStore]:
    """The store, opened; where that fails it is said, and the command ends with 3."""
    from trace_lens.logs.store.manifest import StoreProblem

    try:
        with store:
            yield store
    except StoreProblem as error:
        words = str(error)
        tell(f"{words[0].upper()}{words[1:]}.")
        raise click.exceptions.Exit(3) from None


def _progress(name: str) -> Callable[[str, int, int], None]:
    """Writes to standard error how far the load of one file is, in place, a few times a second."""
    begin = last = time.monotonic()

    def told(phase: str, done: int, whole: int) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last < _EVERY:
            return
        last = now
        if phase == "rows":
            words = f"{done:,} rows, {done / max(0.001, now - begin):,.0f} a second"
        else:
            of = f" of {_size(whole)}" if whole else ""
            words = f"{phase}, {_size(done)}{of}"
        click.echo(f"\r\x1b[K{visible(name)}: {words} ", err=True, nl=False)

    return told


def _size(octets: int) -> str:
    return f"{octets / 1_000_000:,.1f} MB"


@command.command("list")
@with_session("text", "json", "jsonl", "csv", "markdown")
def list_command(session: Session) -> int:
    """List the loaded files."""
    from trace_lens.logs.store.store import EventStore
    from trace_lens.workspace.log_sources import log_sources

    workspace, root = session.workspace, session.root
    log_sources(workspace)  # wrong descriptions are reported
    store = EventStore(root, workspace.settings.store)
    files = []
    if store.exists:
        with _opened(store):
            files = store.files()

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.logs import file_pages

        return file_pages(files)

    from trace_lens.render import json_logs

    session.emit(pages, lambda: json_logs.log_files(files), "files")
    return 0


@command.command(
    "search",
    epilog="Examples:\n\n  trace-lens logs search --user m.tern --since 2026-11-20\n\n"
    "  trace-lens logs search --outcome failure --app crew-roster --format json",
)
@click.option("--user", metavar="NAME", help="Only events of this person, in every known spelling.")
@click.option(
    "--app",
    shell_complete=completing.apps,
    metavar="NAME",
    help="Only events of this application, by every known name.",
)
@click.option("--source", metavar="NAME", help="Only events of this source.")
@click.option("--outcome", type=click.Choice(["success", "failure", "other"]), help="Only events with this outcome.")
@click.option("--code", metavar="CODE", help="Only events with this code.")
@click.option("--ip", metavar="ADDRESS", help="Only events from this address or network (/8, /16, /24).")
@click.option("--id", "identifier", metavar="ID", help="Only events with this id.")
@click.option("--text", metavar="WORDS", help="Only events that contain these words anywhere.")
@click.option("--since", type=Moment(), metavar="TIME", help="Only events at this moment or later.")
@click.option("--until", type=Moment(), metavar="TIME", help="Only events before this moment.")
@with_session("text", "json", "jsonl", "csv", "markdown")
def search_command(
    session: Session,
    source: str | None,
    identifier: str | None,
    ip: str | None,
    **terms: Any,
) -> int:
    """Search the loaded events. Without an option, all events are listed by time."""
    from trace_lens.logs.store.searching import Wanted, search
    from trace_lens.logs.store.store import EventStore
    from trace_lens.workspace.log_sources import log_sources

    workspace, root = session.workspace, session.root
    sources = log_sources(workspace)
    if source is not None:
        _known_source(source, sources)
    wanted = Wanted(source=source, id=identifier, ip=ip, **terms)
    store = EventStore(root, workspace.settings.store)
    if not store.exists:
        raise click.UsageError("No logs are loaded yet; load them with: trace-lens logs load")
    try:
        with _opened(store):
            found = search(store, wanted, workspace)
    except ValueError as error:
        raise click.UsageError(f"--ip: {error}.") from None

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.logs import event_pages

        return event_pages(found)

    from trace_lens.render import json_logs

    session.emit(pages, lambda: json_logs.found_events(found), "events")
    return 0
