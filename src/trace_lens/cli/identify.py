"""`trace-lens identify`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli.options import (
    clock,
    known,
    now_option,
    open_workspace,
    output_options,
    report_settings,
    sources_of,
    verbose_option,
    workspace_option,
    write,
)


@click.command(
    epilog="Examples:\n\n  trace-lens identify crew-roster\n\n  trace-lens identify crew-roster captures/0142.txt\n\n"
    "  trace-lens identify crew-roster names.txt --rule '[{ case = \"lower\" }]'",
)
@click.argument("app")
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--rule", metavar="STEPS", help="Try this rewriting rule, a list of steps as TOML, beside the one set.")
@now_option
@verbose_option("List the names that are found, too.")
@workspace_option
@output_options("text", "json")
def command(
    app: str,
    sources: tuple[str, ...],
    rule: str | None,
    now: datetime | None,
    verbose: bool,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """What the account rule of APP makes of each name: found, near miss, ambiguous, none.

    A SOURCE is a capture, or a list of names (one a line, CSV, or - for standard input); with none, all accounts of the
    application are taken, as the provider would send them. With --rule: whom it would gain, lose or merge. Exit status:
    0 each name has its account, 1 one has none, 2 wrong usage or settings, 3 a source could not be read.
    """
    from trace_lens.diagnosis.identification import NoAccounts, identify
    from trace_lens.people.names import FOUND
    from trace_lens.workspace.problems import SettingsError
    from trace_lens.workspace.supposing import read_supposed, suppose

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    chosen = workspace.apps[app]
    try:
        tried = (
            suppose(workspace, chosen, (read_supposed(f"account.rewrite={rule}"),)).apps[app]
            if rule is not None
            else None
        )
        found = identify(chosen, workspace, sources_of(sources) if sources else None, clock(now), tried)
    except SettingsError as error:
        report_settings(error)
        return 2
    except NoAccounts:
        raise click.UsageError(
            f"{app} has no account list on record. Set list under [account] in {chosen.source.file}."
        ) from None
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.identification(found)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.identified import identified_pages

        write(pages.render(identified_pages(found, verbose=verbose), color, to_file=output is not None), output)
    if found.failed:
        return 3
    return int(any(one.result != FOUND for one in found.names))
