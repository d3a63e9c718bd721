"""The logs that were loaded, for the commands that lay them beside attempts."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from trace_lens.cli.options import report_settings, tell

if TYPE_CHECKING:
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.diagnosis.logbook import Logbook
    from trace_lens.workspace.records import Workspace


def logbook(workspace: Workspace) -> Logbook | None:
    """The logbook of a workspace; None where no logs were loaded. Wrong descriptions end the command."""
    if not workspace.has_logs:
        return None
    from trace_lens.diagnosis.logbook import logbook_of
    from trace_lens.workspace.problems import SettingsError

    try:
        return logbook_of(workspace)
    except SettingsError as error:
        report_settings(error)
        raise click.exceptions.Exit(2) from None


def tell_problem(result: Result) -> None:
    """Say on standard error why the logs could not be laid beside."""
    if result.log_problem:
        tell(f"Without the logs: {result.log_problem}.")
