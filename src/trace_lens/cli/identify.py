"""`trace-lens identify`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click

from trace_lens.cli import completing
from trace_lens.cli.session import Session, with_session


@click.command(
    epilog="Examples:\n\n  trace-lens identify crew-roster\n\n  trace-lens identify crew-roster captures/0142.txt\n\n"
    "  trace-lens identify crew-roster names.txt --rule '[{ case = \"lower\" }]'",
)
@click.argument("app", shell_complete=completing.apps)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--rule", metavar="STEPS", help="Try this account rule, a list of steps as TOML, and show what it would change."
)
@with_session("text", "json", "markdown", now=True, verbose="Also list the names that lead to their account.")
def command(session: Session, app: str, sources: tuple[str, ...], rule: str | None) -> int:
    """Show which account of APP each name leads to by the account rule.

    A SOURCE is a capture, or a list of names (one a line, CSV, or - for standard input); with none, all accounts of the
    application are taken, as the provider would send them. With --rule: whom it would gain, lose or merge. Exit status:
    0 each name has its account, 1 one has none, 2 wrong usage or settings, 3 a source could not be read.
    """
    from trace_lens.diagnosis.identification import NoAccounts, identify
    from trace_lens.people.names import FOUND
    from trace_lens.render import json_sides
    from trace_lens.workspace.trial_settings import read_supposed, with_trial_settings

    workspace, chosen = session.workspace, session.app(app)
    tried = None
    if rule is not None:
        tried = with_trial_settings(workspace, chosen, (read_supposed(f"account.rewrite={rule}"),)).apps[app]
    try:
        found = identify(chosen, workspace, session.sources(sources) if sources else None, session.now, tried)
    except NoAccounts:
        raise click.UsageError(
            f"{app} has no account list on record. Set list under [account] in {chosen.source.file}."
        ) from None

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.identified import identified_pages

        return identified_pages(found, verbose=session.verbose)

    session.emit(pages, lambda: json_sides.identification(found))
    if found.failed:
        return 3
    return int(any(name.result != FOUND for name in found.names))
