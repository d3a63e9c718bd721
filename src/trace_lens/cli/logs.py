"""`trace-lens logs`."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from trace_lens.cli.options import (
    Moment,
    open_workspace,
    output_options,
    report_settings,
    tell,
    workspace_option,
    write,
)
from trace_lens.common.masking import visible

if TYPE_CHECKING:
    from trace_lens.logs.store.store import EventStore
    from trace_lens.workspace.loading import Workspace
    from trace_lens.workspace.log_sources import LogSource

_NAME = re.compile(r"[A-Za-z0-9][\w.-]*")


@click.group()
def command() -> None:
    """Sign-in logs: check how a file is read, load, list, search."""


@command.command(
    "check",
    epilog="Examples:\n\n  trace-lens logs check export.csv.gz\n\n"
    "  trace-lens logs check export.csv.gz --write id-sign-ins\n\n"
    "  trace-lens logs check export.csv.gz --source id-sign-ins",
)
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--source", metavar="NAME", help="Read it by this description; else by the one whose files name it.")
@click.option("--write", "save_as", metavar="NAME", help="Save the proposed description as logs/NAME.toml.")
@workspace_option
@output_options("text", "json")
def check_command(
    file: Path,
    source: str | None,
    save_as: str | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Read a sample of a log file and show how each column was understood.

    For a file that no description names, one is proposed: format, columns, form of the times, words for outcomes. Exit
    status: 0, or 3 where the file cannot be read at all.
    """
    from trace_lens.logs.formats.checking import check
    from trace_lens.logs.formats.proposing import as_toml
    from trace_lens.logs.formats.records import Unreadable
    from trace_lens.render import as_json
    from trace_lens.workspace.log_sources import FOLDER, log_sources
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    try:
        known = log_sources(workspace)
    except SettingsError as error:
        report_settings(error)
        return 2
    if source is not None:
        _known_source(source, known)
    if save_as is not None and not _NAME.fullmatch(save_as):
        raise click.UsageError(f"--write {save_as}: a name has letters, digits, dots, dashes and underscores only.")
    chosen = known[source] if source else None
    if chosen is None and workspace.root and not save_as:
        place = file.resolve()
        chosen = next(
            (one for one in known.values() if place in {each.resolve() for each in one.files_in(workspace.root)}), None
        )
    try:
        found = check(file, chosen)
    except (Unreadable, OSError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        tell(f"{file}: {reason[0].lower()}{reason[1:]}.")
        return 3
    proposed = None
    if found.proposal:
        place = file.resolve()
        inside = workspace.root is not None and place.is_relative_to(workspace.root.resolve())
        named = place.relative_to((workspace.root or Path()).resolve()) if inside else place
        proposed = as_toml(found.proposal, save_as or file.name.partition(".")[0], named.as_posix())
        if workspace.root is not None and not inside:
            remark = "this file is outside the workspace: copy it into logs/, or load it with --trust-workspace"
            found = found._replace(proposal=found.proposal._replace(remarks=(*found.proposal.remarks, remark)))
    if save_as and proposed:
        root = workspace.root
        if root is None:
            raise click.UsageError("--write: there is no workspace here; name one with --workspace.")
        target = root / FOLDER / f"{save_as}.toml"
        if target.exists():
            raise click.UsageError(f"--write: {FOLDER}/{save_as}.toml is there already, and nothing is overwritten.")
        target.parent.mkdir(exist_ok=True)
        target.write_text(proposed, "utf-8")
        tell(f"{FOLDER}/{save_as}.toml is written; check it, and set role and provider or app.")
    if form == "json":
        write(as_json.dump(as_json.checked_log(found, proposed)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.logs import checked_pages

        write(pages.render(checked_pages(found, proposed), color, to_file=output is not None), output)
    return 0


def _with_logs(folder: Path | None) -> tuple[Workspace, dict[str, LogSource], Path]:
    """The workspace, its log sources and its root. Wrong settings, or no workspace, end the command."""
    from trace_lens.workspace.log_sources import log_sources
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(folder)
    if workspace.root is None:
        raise click.UsageError("There is no workspace here; make one with: trace-lens init")
    try:
        return workspace, log_sources(workspace), workspace.root
    except SettingsError as error:
        report_settings(error)
        raise click.exceptions.Exit(2) from None


def _known_source(name: str, sources: dict[str, LogSource]) -> None:
    if name not in sources:
        from trace_lens.common.difference import nearest

        near = nearest(name, sorted(sources))
        raise click.UsageError(
            f"--source {name}: there is no logs/{name}.toml." + (f" Did you mean {near}?" if near else "")
        )


@command.command("load", epilog="Examples:\n\n  trace-lens logs load\n\n  trace-lens logs load --source northmere-id")
@click.option(
    "--source", "only", multiple=True, metavar="NAME", help="Load the files of this source only; may be repeated."
)
@workspace_option
@output_options("text", "json")
def load_command(
    only: tuple[str, ...], workspace_dir: Path | None, form: str, output: Path | None, reveal: bool, color: str
) -> int:
    """Load the files that the descriptions name into the event store of the workspace.

    The same content again adds nothing; a file that has grown adds its new rows. Bad rows are counted and kept aside.
    Exit status: 0, or 3 where a file could not be read at all.
    """
    from trace_lens.logs.store.loading import load_all
    from trace_lens.logs.store.spark import store_of
    from trace_lens.render import as_json

    workspace, sources, root = _with_logs(workspace_dir)
    for name in only:
        _known_source(name, sources)
    begin = datetime.now(UTC)
    wanted = [one for one in sources.values() if not only or one.id in only]
    files = [file for one in wanted for file in one.files_in(root)]
    with _opened(store_of(root, workspace.settings.store, writing=True, files=files)) as store:
        loaded = load_all(store, wanted, root, lambda name: _progress(name) if sys.stderr.isatty() else None)
    seconds = (datetime.now(UTC) - begin).total_seconds()
    if form == "json":
        write(as_json.dump(as_json.loaded_logs(loaded)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.logs import loaded_pages

        write(pages.render(loaded_pages(loaded, seconds), color, to_file=output is not None), output)
    return 3 if any(one.problem for one in loaded) else 0


@contextmanager
def _opened(store: EventStore) -> Iterator[EventStore]:
    """The store, opened; where that fails it is said, and the command ends with 3."""
    from trace_lens.logs.store.store import StoreProblem

    try:
        with store:
            yield store
    except StoreProblem as error:
        words = str(error)
        tell(f"{words[0].upper()}{words[1:]}.")
        raise click.exceptions.Exit(3) from None


def _progress(name: str) -> Callable[[int], None]:
    begin = datetime.now(UTC)

    def told(rows: int) -> None:
        seconds = max(0.001, (datetime.now(UTC) - begin).total_seconds())
        click.echo(f"\r{visible(name)}: {rows:,} rows, {rows / seconds:,.0f} a second ", err=True, nl=False)

    return told


@command.command("list")
@workspace_option
@output_options("text", "json")
def list_command(workspace_dir: Path | None, form: str, output: Path | None, reveal: bool, color: str) -> int:
    """The files that were loaded: source, rows, bad rows, when."""
    from trace_lens.logs.store.spark import store_of
    from trace_lens.render import as_json

    workspace, _, root = _with_logs(workspace_dir)
    store = store_of(root, workspace.settings.store)
    files = []
    if store.exists:
        with _opened(store):
            files = store.files()
    if form == "json":
        write(as_json.dump(as_json.log_files(files)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.logs import file_pages

        write(pages.render(file_pages(files), color, to_file=output is not None), output)
    return 0


@command.command(
    "search",
    epilog="Examples:\n\n  trace-lens logs search --user m.tern --since 2026-11-20\n\n"
    "  trace-lens logs search --outcome failure --app crew-roster --format json",
)
@click.option("--user", metavar="NAME", help="Events of a person, under every spelling on record.")
@click.option("--app", metavar="NAME", help="Events of an application, under every name on record.")
@click.option("--source", metavar="NAME", help="Events of one source.")
@click.option("--outcome", type=click.Choice(["success", "failure", "other"]), help="Events that went so.")
@click.option("--code", metavar="CODE", help="Events with this code.")
@click.option("--ip", metavar="ADDRESS", help="Events from this address, or network (/8, /16, /24).")
@click.option("--id", "identifier", metavar="ID", help="Events that carry this id.")
@click.option("--text", metavar="WORDS", help="Events in which these words stand anywhere.")
@click.option("--since", type=Moment(), metavar="TIME", help="Events at this moment or later.")
@click.option("--until", type=Moment(), metavar="TIME", help="Events before this moment.")
@workspace_option
@output_options("text", "json")
def search_command(
    user: str | None, app: str | None, source: str | None, outcome: str | None, code: str | None, ip: str | None,
    identifier: str | None, text: str | None, since: datetime | None, until: datetime | None,
    workspace_dir: Path | None, form: str, output: Path | None, reveal: bool, color: str,
) -> int:  # fmt: skip
    """Look for events; without a term all are given, in the order of their times."""
    from trace_lens.logs.store.searching import Wanted, search
    from trace_lens.logs.store.spark import store_of
    from trace_lens.render import as_json

    workspace, sources, root = _with_logs(workspace_dir)
    if source is not None:
        _known_source(source, sources)
    wanted = Wanted(user, app, source, outcome, code, ip, identifier, text, since, until)
    store = store_of(root, workspace.settings.store)
    if not store.exists:
        raise click.UsageError("No logs are loaded yet; load them with: trace-lens logs load")
    try:
        with _opened(store):
            found = search(store.events(), wanted, workspace, store.kept_ids)
    except ValueError as error:
        raise click.UsageError(f"--ip: {error}.") from None
    if form == "json":
        write(as_json.dump(as_json.found_events(found)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.logs import event_pages

        write(pages.render(event_pages(found), color, to_file=output is not None), output)
    return 0
