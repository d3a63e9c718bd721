"""`trace-lens decode`."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.diagnosis.looking_up import LookedUp
    from trace_lens.workspace.sources import SourceFile

_SHORT = 300
"""Up to how many bytes a source may be a text to look up."""


@click.command(
    epilog="Examples:\n\n  trace-lens decode response.txt\n\n  trace-lens decode < paste.txt\n\n"
    "  trace-lens decode captures/ --format json",
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--app",
    shell_complete=completing.apps,
    metavar="NAME",
    help="The messages are for this application (default: chosen by the message).",
)
@with_session("text", "json", verbose="")
def command(session: Session, sources: tuple[str, ...], app: str | None) -> int:
    """Show what each source is, and everything in it.

    A fingerprint, a certificate's serial number or an error code in the place of a SOURCE is looked up. With no SOURCE,
    standard input is read; from a terminal you are asked for a paste. Exit status: 0, or 3 where a source could not be
    read.
    """
    from trace_lens.diagnosis.laying_open import lay_open_sources
    from trace_lens.render import as_json

    session.check_names(app)
    looked_up, names = _looked_up(session, sources)
    read = list(session.sources(names)) if names or not sources else []
    short = {source.name: found for source in read if (found := _short(session, source))}
    looked_up += [item for found in short.values() for item in found]
    left = [source for source in read if source.name not in short]
    opened, unreadable = lay_open_sources(left, session.workspace, session.now, app)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.opened import looked_up_lines, opened_pages

        yield from looked_up_lines(looked_up)
        yield from opened_pages(opened, unreadable, session.masks)

    session.emit(pages, lambda: as_json.opened(opened, unreadable, session.masks, looked_up))
    return 3 if unreadable else 0


def _looked_up(session: Session, names: tuple[str, ...]) -> tuple[list[LookedUp], tuple[str, ...]]:
    """What of the names is no file but something to look up, and the names that are left."""
    from trace_lens.diagnosis.looking_up import look_up

    found: list[LookedUp] = []
    left = []
    for name in names:
        held = [] if name == "-" or Path(name).exists() else look_up(name, session.workspace)
        found += held
        if not held:
            left.append(name)
    return found, tuple(left)


def _short(session: Session, source: SourceFile) -> list[LookedUp]:
    """What a source of one short text is, that is no message."""
    from trace_lens.diagnosis.looking_up import look_up

    if source.data is None or len(source.data) > _SHORT:
        return []
    return look_up(source.data.decode("utf-8", "replace"), session.workspace)
