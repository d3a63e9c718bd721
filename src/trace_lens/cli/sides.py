"""`trace-lens sides`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click

from trace_lens.cli import completing
from trace_lens.cli.session import Session, with_session


@click.command(
    epilog="Examples:\n\n  trace-lens sides crew-roster\n\n  trace-lens sides crew-roster captures/0142.txt",
)
@click.argument("app", shell_complete=completing.apps)
@click.argument("capture", required=False)
@with_session("text", "json", "markdown", now=True, verbose="Also show where the values are that agree.")
def command(session: Session, app: str, capture: str | None) -> int:
    """Show every value that both sides must share, side by side.

    Shows which values are equal, nearly equal, different or in the wrong field, and what to copy.
    Exit status: 0 all agree, 1 something differs, 2 wrong usage or settings, 3 the capture could not be read.
    """
    from trace_lens.comparison.comparing_sides import two_sides
    from trace_lens.render import json_sides

    chosen = session.app(app)
    found = two_sides(chosen, session.workspace, session.now, session.sources((capture,)) if capture else ())

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.sides import sides_pages

        return sides_pages(found, verbose=session.verbose)

    session.emit(pages, lambda: json_sides.two_sides(found, session.masks))
    if found.failed:
        return 3
    wrong = any(copy.side != "user" for copy in found.copies)
    return int(wrong or any(finding.breaks and not finding.accepted for finding in found.findings))
