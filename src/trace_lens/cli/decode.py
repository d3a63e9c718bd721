"""`trace-lens decode`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click

from trace_lens.cli.session import Session, with_session


@click.command(
    epilog="Examples:\n\n  trace-lens decode response.txt\n\n  trace-lens decode < paste.txt\n\n"
    "  trace-lens decode captures/ --format json",
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--app", metavar="NAME", help="The messages are for this application (default: chosen by the message).")
@with_session("text", "json", verbose="")
def command(session: Session, sources: tuple[str, ...], app: str | None) -> int:
    """Show what each source is, and everything in it.

    With no SOURCE, standard input is read; from a terminal you are asked for a paste. Exit status: 0, or 3 where a
    source could not be read.
    """
    from trace_lens.diagnosis.laying_open import lay_open_sources
    from trace_lens.render import as_json

    session.check_names(app)
    opened, unreadable = lay_open_sources(session.sources(sources), session.workspace, session.now, app)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.opened import opened_pages

        return opened_pages(opened, unreadable, session.masks)

    session.emit(pages, lambda: as_json.opened(opened, unreadable, session.masks))
    return 3 if unreadable else 0
