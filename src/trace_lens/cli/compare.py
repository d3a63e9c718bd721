"""`trace-lens compare`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli.options import (
    clock,
    faults_option,
    known,
    now_option,
    open_workspace,
    output_options,
    report_settings,
    sources_of,
    tell,
    workspace_option,
    write,
)


@click.command(
    epilog="Examples:\n\n  trace-lens compare captures/fails.txt captures/works.txt\n\n"
    "  trace-lens compare metadata/before.xml metadata/after.xml",
)
@click.argument("left")
@click.argument("right")
@click.option("--app", metavar="NAME", help="The application that both attempts are for.")
@now_option
@faults_option
@workspace_option
@output_options("text", "json")
def command(
    left: str,
    right: str,
    app: str | None,
    now: datetime | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Two attempts, two metadata files or two certificates: what differs, and which difference matters.

    Of two attempts (before and after, a user who can and one who cannot) the findings that came, went and stayed, too.
    Exit status: 0 nothing differs that matters, 1 something does, 2 wrong usage or settings, 3 a source could not be
    read.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.comparison.comparing import CannotCompare, compare
    from trace_lens.diagnosis.judging import Circumstances
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    sides = []
    for name in (left, right):
        found = list(sources_of((name,)))
        if len(found) != 1:
            raise click.UsageError(f"{name} stands for {len(found)} files; name one on each side.")
        if found[0].data is None:
            tell(f"{name}: {found[0].problem}.")
            return 3
        sides.append(found[0])
    try:
        result = compare(sides[0], sides[1], workspace, Circumstances(clock(now), app=app))
    except SettingsError as error:
        report_settings(error)
        return 2
    except CannotCompare as error:
        tell(f"These cannot be compared: {error}.")
        return 3 if error.unread else 2
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.comparison(result, Masks(reveal=reveal))), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.compared import compared_pages

        write(pages.render(compared_pages(result), color, to_file=output is not None), output)
    return int(result.matters)
