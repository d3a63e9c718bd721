"""`trace-lens apps`: list, show, check, add, set."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import click

from trace_lens.cli import adding, completing, setting
from trace_lens.cli.groups import FullHelp
from trace_lens.cli.session import Session, with_session


@click.group(cls=FullHelp)
def command() -> None:
    """List, show, check, add and change applications."""


command.add_command(adding.command)
command.add_command(setting.command)


@command.command("list")
@with_session("text", "json", "jsonl", "csv", "markdown")
def list_apps(session: Session) -> int:
    """List the applications."""
    workspace = session.workspace

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents import lists

        return lists.app_list(workspace.apps.values(), workspace)

    def document() -> Any:
        from trace_lens.render import json_sides

        return json_sides.apps(workspace.apps.values(), workspace)

    session.emit(pages, document, "applications")
    return 0


@command.command("show")
@click.argument("app", shell_complete=completing.apps)
@with_session("text", "json")
def show(session: Session, app: str) -> int:
    """Show all settings of one application."""

    found = session.app(app)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents import lists

        return lists.app_shown(found)

    def document() -> Any:
        from trace_lens.render import json_sides

        return json_sides.apps([found], session.workspace)

    session.emit(pages, document)
    return 0


@command.command("check")
@click.argument("apps", nargs=-1, metavar="[APP]...", shell_complete=completing.apps)
@with_session("text", "json", "markdown", "sarif", now=True)
def check(session: Session, apps: tuple[str, ...]) -> int:
    """Check the settings of all applications, without a capture.

    Exit status: 0 nothing breaks, 1 a setting breaks sign-ins, 2 wrong usage or settings.
    """
    from trace_lens.diagnosis.judging import check_settings
    from trace_lens.render import as_json, json_sides

    chosen = [session.app(name) for name in apps or session.workspace.apps]
    found = check_settings(chosen, session.workspace, session.now)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.settings import check as shown

        return shown(found)

    def document() -> as_json.Json:
        if session.format == "json":
            return json_sides.settings_check(found, session.masks)
        from trace_lens.render.sarif import sarif

        return sarif(found)

    session.emit(pages, document)
    return int(any(finding.breaks and not finding.accepted for _, findings in found for finding in findings))
