"""`trace-lens decode`."""

from __future__ import annotations

from pathlib import Path

import click

from trace_lens.cli.options import (
    clock,
    faults_option,
    known,
    open_workspace,
    output_options,
    report_settings,
    sources_of,
    workspace_option,
    write,
)


@click.command(
    epilog="Examples:\n\n  trace-lens decode response.txt\n\n  trace-lens decode < paste.txt\n\n"
    "  trace-lens decode captures/ --format json",
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--app", metavar="NAME", help="The application that the messages are for.")
@faults_option
@workspace_option
@output_options("text", "json")
def command(
    sources: tuple[str, ...],
    app: str | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Say what each source is, through which layers, and lay it open.

    With no SOURCE, standard input is read; from a terminal you are asked for a paste. Exit status: 0, or 3 where a
    source could not be read.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.laying_open import lay_open_sources
    from trace_lens.render import as_json
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    known("app", app, workspace.apps)
    try:
        opened, unreadable = lay_open_sources(sources_of(sources), workspace, clock(None), app)
    except SettingsError as error:
        report_settings(error)
        return 2
    masks = Masks(reveal=reveal)
    if form == "json":
        write(as_json.dump(as_json.opened(opened, unreadable, masks)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.opened import opened_pages

        write(pages.render(opened_pages(opened, unreadable, masks), color, to_file=output is not None), output)
    return 3 if unreadable else 0
