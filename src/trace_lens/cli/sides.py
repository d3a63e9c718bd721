"""`trace-lens sides`."""

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
    epilog="Examples:\n\n  trace-lens sides crew-roster\n\n  trace-lens sides crew-roster captures/0142.txt",
)
@click.argument("app")
@click.argument("capture", required=False)
@now_option
@verbose_option("Where each value stands, of those that agree too.")
@workspace_option
@output_options("text", "json")
def command(
    app: str,
    capture: str | None,
    now: datetime | None,
    verbose: bool,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Every value that both sides must share: application, provider, their metadata, and a CAPTURE.

    Says which are equal, nearly equal, different or stand in the wrong field, and what to copy from where to where.
    Exit status: 0 all agree, 1 something differs, 2 wrong usage or settings, 3 the capture could not be read.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.comparison.comparing_sides import two_sides
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    sources = sources_of((capture,)) if capture else ()
    try:
        found = two_sides(workspace.apps[app], workspace, clock(now), sources)
    except SettingsError as error:
        report_settings(error)
        return 2
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.two_sides(found, Masks(reveal=reveal))), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.sides import sides_pages

        write(pages.render(sides_pages(found, verbose=verbose), color, to_file=output is not None), output)
    if found.failed:
        return 3
    wrong = any(one.side != "user" for one in found.copies)
    return int(wrong or any(one.breaks and not one.accepted for one in found.findings))
