"""`trace-lens logs`."""

from __future__ import annotations

import re
from pathlib import Path

import click

from trace_lens.cli.options import open_workspace, output_options, report_settings, workspace_option, write

_NAME = re.compile(r"[A-Za-z0-9][\w.-]*")


@click.group()
def command() -> None:
    """Sign-in logs: does a description read them well?"""


@command.command(
    "check",
    epilog="Examples:\n\n  trace-lens logs check export.csv.gz\n\n"
    "  trace-lens logs check export.csv.gz --write id-sign-ins\n\n"
    "  trace-lens logs check export.csv.gz --source id-sign-ins",
)
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--source", metavar="NAME", help="Read it by this description; else by the one whose files name it.")
@click.option("--write", "save_as", metavar="NAME", help="Save the proposed description as logs/NAME.toml.")
@workspace_option
@output_options("text", "json")
def check_command(
    file: Path,
    source: str | None,
    save_as: str | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Read a sample of a log file and show how each column was understood.

    For a file that no description names, one is proposed: format, columns, form of the times, words for outcomes. Exit
    status: 0, or 3 where the file cannot be read at all.
    """
    from trace_lens.logs.checking import check
    from trace_lens.logs.proposing import as_toml
    from trace_lens.logs.records import Unreadable
    from trace_lens.render import as_json
    from trace_lens.workspace.log_sources import FOLDER, log_sources
    from trace_lens.workspace.problems import SettingsError

    workspace = open_workspace(workspace_dir)
    try:
        known = log_sources(workspace)
    except SettingsError as error:
        report_settings(error)
        return 2
    if source is not None and source not in known:
        from trace_lens.common.difference import nearest

        near = nearest(source, sorted(known))
        raise click.UsageError(
            f"--source {source}: there is no {FOLDER}/{source}.toml." + (f" Did you mean {near}?" if near else "")
        )
    if save_as is not None and not _NAME.fullmatch(save_as):
        raise click.UsageError(f"--write {save_as}: a name has letters, digits, dots, dashes and underscores only.")
    chosen = known[source] if source else None
    if chosen is None and workspace.root and not save_as:
        place = file.resolve()
        chosen = next(
            (one for one in known.values() if place in {each.resolve() for each in one.files_in(workspace.root)}), None
        )
    try:
        found = check(file, chosen)
    except (Unreadable, OSError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        click.echo(f"{file}: {reason[0].lower()}{reason[1:]}.", err=True)
        return 3
    proposed = None
    if found.proposal:
        place = file.resolve()
        inside = workspace.root is not None and place.is_relative_to(workspace.root.resolve())
        named = place.relative_to((workspace.root or Path()).resolve()) if inside else place
        proposed = as_toml(found.proposal, save_as or file.name.partition(".")[0], named.as_posix())
    if save_as and proposed:
        root = workspace.root
        if root is None:
            raise click.UsageError("--write: there is no workspace here; name one with --workspace.")
        target = root / FOLDER / f"{save_as}.toml"
        if target.exists():
            raise click.UsageError(f"--write: {FOLDER}/{save_as}.toml is there already, and nothing is overwritten.")
        target.parent.mkdir(exist_ok=True)
        target.write_text(proposed, "utf-8")
        click.echo(f"{FOLDER}/{save_as}.toml is written; check it, and set role and provider or app.", err=True)
    if form == "json":
        write(as_json.dump(as_json.checked_log(found, proposed)), output)
    else:
        from trace_lens.render.terminal import pages
        from trace_lens.render.terminal.logs import checked_pages

        write(pages.render(checked_pages(found, proposed), color, to_file=output is not None), output)
    return 0
