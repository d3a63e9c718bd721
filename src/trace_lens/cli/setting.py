"""`trace-lens apps set`."""

from __future__ import annotations

from datetime import timedelta

import click

from trace_lens.cli import completing
from trace_lens.cli.options import Duration, known, say
from trace_lens.cli.session import Session, with_session


@click.command(
    "set",
    epilog="Examples:\n\n  trace-lens apps set crew-roster application.entity_id=https://roster.northmere.example/saml/\n\n"
    "  trace-lens apps set crew-roster provider.certificates='[\"certs/id-2026.pem\"]' --takes 4h",
)
@click.argument("app", shell_complete=completing.apps)
@click.argument("settings", nargs=-1, required=True, metavar="KEY=VALUE...", shell_complete=completing.keys)
@click.option("--takes", type=Duration(), metavar="DURATION", help="How long the change takes to arrive (default: 1h).")
@click.option("--no-record", is_flag=True, help="Write no line of changes.csv.")
@click.option("--dry-run", is_flag=True, help="Show what would change, without writing it.")
@with_session(now=True)
def command(
    session: Session, app: str, settings: tuple[str, ...], takes: timedelta | None, no_record: bool, dry_run: bool
) -> int:
    """Change settings of one application, or of a provider, and note that in changes.csv.

    The file keeps its comments and its order. A key that begins with provider. is one of the application's provider.
    Exit status: 0, 2 wrong usage or settings.
    """
    from trace_lens.estate import setting as changing
    from trace_lens.estate.plans import put
    from trace_lens.workspace.trial_settings import read_supposed

    workspace = session.workspace
    root = session.root
    known("", app, {**workspace.apps, **workspace.providers})
    try:
        told = [read_supposed(text) for text in settings]
    except ValueError as error:
        raise click.UsageError(f"{error}.") from None
    files = changing.changed(workspace, app, told)
    differing = [item for item in files if item.differences]
    for item in files:
        if not item.differences:
            say(f"{item.file}: it is so already.")
        for difference in item.differences:
            before = difference.before if difference.before is not None else "not set"
            say(f"{item.file}: {difference.key}: {before} → {difference.after}")
    if dry_run:
        return 0
    try:
        for item in differing:
            put(root / item.file, item.text.encode())
            if not no_record:
                changing.record_change(
                    root,
                    at=session.now,
                    app=item.id,
                    what="; ".join(f"{change.key} = {change.after}" for change in item.differences),
                    who=_who(),
                    takes=takes,
                )
    except OSError as error:
        raise click.UsageError(f"{error.filename} cannot be written: {error.strerror}.") from None
    if differing and not no_record:
        say("Noted in changes.csv.")
    return 0


def _who() -> str:
    """The person at the terminal, as the environment says."""
    import getpass

    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""
