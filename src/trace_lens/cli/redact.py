"""`trace-lens redact`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli import completing
from trace_lens.cli.options import Moment
from trace_lens.cli.session import Session, with_session
from trace_lens.cli.with_logs import logbook

_NAMED = 5


@click.command(
    epilog="Examples:\n\n  trace-lens redact captures/0142.har --output for-the-vendor --with-settings\n\n"
    "  trace-lens redact captures/0142.txt > 0142-redacted.txt\n\n"
    "  trace-lens redact captures/ --output for-the-vendor --key-file ~/redaction.key",
)
@click.argument("sources", nargs=-1, metavar="SOURCE...")
@click.option(
    "--output",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Write the copies, and redaction.json, into this folder; one source without it goes to standard output.",
)
@click.option(
    "--with-settings",
    is_flag=True,
    help="Put the settings that these captures need beside the copies, so that whoever gets them can diagnose them.",
)
@click.option(
    "--key-file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Make stand-ins by the key in this file, the same from one day to the next; it is made where it is missing.",
)
@click.option("--app", shell_complete=completing.apps, metavar="NAME", help="The message is for this application.")
@click.option(
    "--provider", shell_complete=completing.providers, metavar="NAME", help="The message is from this provider."
)
@click.option(
    "--at", type=Moment(), metavar="TIME", help="Judge times as of this moment (default: what the capture shows)."
)
@click.option("--together", is_flag=True, help="Treat all sources as one sign-in attempt.")
@with_session(now=True, verbose="")
def command(
    session: Session,
    sources: tuple[str, ...],
    folder: Path | None,
    with_settings: bool,
    key_file: Path | None,
    app: str | None,
    provider: str | None,
    at: datetime | None,
    together: bool,
) -> int:
    """Make copies that can leave the house: secrets gone, people and addresses replaced, what breaks still there.

    What is not known to be harmless gets a stand-in of the same form, the same one throughout the set. Before anything
    is written, the copies are searched through every decoding for what was replaced: exit 1, and nothing written, where
    anything is found. A source that cannot be read is not copied (exit 3). The copies diagnose as the originals did;
    what only arithmetic could show (that a signature held) is written into redaction.json, and told as recorded.
    """
    from trace_lens.cli.redacting import key_of, tell_copies, write_raw
    from trace_lens.diagnosis.judging import Options
    from trace_lens.handover.redaction.copying import Overwrites, Redaction

    if with_settings and folder is None:
        raise click.UsageError("--with-settings needs --output: settings are files beside the copies.")
    workspace = session.workspace
    if with_settings and workspace.root is None:
        raise click.UsageError("--with-settings: there is no workspace here; name one with --workspace.")
    session.check_names(app, provider)
    read = list(session.sources(sources))
    if folder is None and len(read) > 1:
        raise click.UsageError(f"{len(read)} sources need --output DIR: only one goes to standard output.")
    book = logbook(workspace)
    options = Options(now=session.now, at=at, app=app, provider=provider, with_logs=book is not None)
    redaction = Redaction(read, workspace, options, key_of(key_file), logbook=book, together=together)
    if folder is None:
        return write_raw(redaction)
    try:
        copies = redaction.write(folder, with_settings=with_settings, now=session.now)
    except Overwrites as error:
        named = ", ".join(error.names[:5]) + (", …" if len(error.names) > _NAMED else "")
        raise click.UsageError(f"--output: {named} would be overwritten in {folder}. Name another folder.") from None
    tell_copies(copies, folder)
    return 3 if copies.left_out else int(bool(copies.leaks))
