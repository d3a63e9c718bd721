"""`trace-lens init`."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import click

from trace_lens.cli.options import say

_FILES = (
    "trace-lens.toml",
    "providers/example-provider.toml",
    "apps/example-app.toml",
    "apps/example-client.toml",
    "accounts/example-app.csv",
    "assignments/example-app.csv",
)


@click.command(epilog="Example:\n\n  trace-lens init sso-workspace")
@click.argument("folder", required=False, type=click.Path(path_type=Path, file_okay=False), metavar="[DIR]")
def command(folder: Path | None) -> int:
    """Make an empty workspace with examples for SAML and OpenID Connect.

    DIR is the current folder where it is not given. Nothing that exists is overwritten.
    """
    folder = folder or Path()
    there = [name for name in _FILES if (folder / name).exists()]
    if there:
        raise click.UsageError(f"{folder / there[0]} exists already, and nothing is overwritten.")
    templates = files("trace_lens.workspace").joinpath("templates")
    try:
        for name in _FILES:
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(templates.joinpath(name.replace("/", "_")).read_text("utf-8"), "utf-8")
        for name in ("certs", "metadata", "captures"):
            (folder / name).mkdir(exist_ok=True)
    except OSError as error:
        raise click.UsageError(f"{error.filename} cannot be written: {error.strerror}.") from None
    say(f"A workspace is made in {folder.resolve()}.")
    say("apps/example-app.toml shows SAML, apps/example-client.toml OpenID Connect; change them or take them away.")
    say("Next: trace-lens apps add --from CAPTURE puts both sides of a sign-in on record; then")
    say("  trace-lens apps check")
    return 0
