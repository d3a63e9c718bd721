"""`trace-lens apps`: list, show, check, add."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli import adding
from trace_lens.cli.options import (
    clock,
    now_option,
    open_workspace,
    output_options,
    report_settings,
    workspace_option,
    write,
)


@click.group()
def command() -> None:
    """The applications on record: list, show, check, add."""


command.add_command(adding.command)


@command.command("list")
@workspace_option
@output_options("text", "json")
def list_apps(workspace_dir: Path | None, form: str, output: Path | None, reveal: bool, color: str) -> int:
    """The applications on record, one a line."""
    workspace = open_workspace(workspace_dir)
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.apps(workspace.apps.values(), workspace)), output)
    else:
        from trace_lens.render.terminal import lists, pages

        lines = lists.app_list(workspace.apps.values(), workspace)
        write(pages.render(lines, color, to_file=output is not None), output)
    return 0


@command.command("show")
@click.argument("app")
@workspace_option
@output_options("text", "json")
def show(app: str, workspace_dir: Path | None, form: str, output: Path | None, reveal: bool, color: str) -> int:
    """All settings of one application."""
    from trace_lens.cli.options import known

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    found = workspace.apps[app]
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.apps([found], workspace)), output)
    else:
        from trace_lens.render.terminal import lists, pages

        write(pages.render(lists.app_shown(found), color, to_file=output is not None), output)
    return 0


@command.command("check")
@click.argument("apps", nargs=-1, metavar="[APP]...")
@now_option
@workspace_option
@output_options("text", "json", "sarif")
def check(
    apps: tuple[str, ...],
    now: datetime | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """All settings compared, without any capture: what disagrees, what is missing, what is left open.

    Exit status: 0 nothing breaks, 1 a setting breaks sign-ins, 2 wrong usage or settings.
    """
    from trace_lens.cli.options import known
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.judging import check_settings
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    for name in apps:
        known("app", name, workspace.apps)
    chosen = [workspace.apps[name] for name in apps or workspace.apps]
    try:
        found = check_settings(chosen, workspace, clock(now))
    except SettingsError as error:
        report_settings(error)
        return 2
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.settings_check(found, Masks(reveal=reveal))), output)
    elif form == "sarif":
        from trace_lens.render import as_json
        from trace_lens.render.sarif import sarif

        write(as_json.dump(sarif(found)), output)
    else:
        from trace_lens.render.terminal import lists, pages

        write(pages.render(lists.check(found), color, to_file=output is not None), output)
    return int(any(one.breaks and not one.accepted for _, findings in found for one in findings))
