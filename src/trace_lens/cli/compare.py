"""`trace-lens compare`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import tell
from trace_lens.cli.session import Session, with_session


@click.command(
    epilog="Examples:\n\n  trace-lens compare captures/fails.txt captures/works.txt\n\n"
    "  trace-lens compare metadata/before.xml metadata/after.xml",
)
@click.argument("left")
@click.argument("right")
@click.option("--app", shell_complete=completing.apps, metavar="NAME", help="Both attempts are for this application.")
@with_session("text", "json", "markdown", now=True, verbose="")
def command(session: Session, left: str, right: str, app: str | None) -> int:
    """Compare two attempts, metadata files or certificates.

    For two attempts, also shows which findings came, went and stayed.
    Exit status: 0 nothing differs that matters, 1 something does, 2 wrong usage or settings, 3 a source could not be
    read.
    """
    from trace_lens.comparison.compared import CannotCompare
    from trace_lens.comparison.comparing import compare
    from trace_lens.diagnosis.judging import Options
    from trace_lens.render import json_sides

    session.check_names(app)
    sides = []
    for name in (left, right):
        found = list(session.sources((name,)))
        if len(found) != 1:
            raise click.UsageError(f"{name} is {len(found)} files; name one file on each side.")
        if found[0].data is None:
            tell(f"{name}: {found[0].problem}.")
            return 3
        sides.append(found[0])
    try:
        result = compare(sides[0], sides[1], session.workspace, Options(session.now, app=app))
    except CannotCompare as error:
        tell(f"These cannot be compared: {error}.")
        return 3 if error.unread else 2

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.compared import compared_pages

        return compared_pages(result)

    session.emit(pages, lambda: json_sides.comparison(result, session.masks))
    return int(result.matters)
