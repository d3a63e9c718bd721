"""`trace-lens certs`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli.options import (
    clock,
    now_option,
    open_workspace,
    output_options,
    report_settings,
    sources_of,
    workspace_option,
    write,
)


@click.command(
    epilog="Examples:\n\n  trace-lens certs provider.pem metadata.xml\n\n"
    '  trace-lens certs response.txt --expect "3F:A2:77:…"',
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--expect", metavar="FINGERPRINT", help="Compare with this fingerprint, or with its ending.")
@now_option
@workspace_option
@output_options("text", "json")
def command(
    sources: tuple[str, ...],
    expect: str | None,
    now: datetime | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Certificates in anything: names, validity, fingerprints, and which applications pin them.

    Exit status: 0, 1 where --expect fits none of them, 3 where a source holds none.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.certificates import certificates_of, read_expected
    from trace_lens.workspace.problems import SettingsError

    try:
        expected = read_expected(expect) if expect is not None else None
    except ValueError as error:
        raise click.UsageError(f"--expect: {error}.") from None
    workspace = open_workspace(workspace_dir)
    try:
        found = certificates_of(sources_of(sources), workspace, clock(now), expected)
    except SettingsError as error:
        report_settings(error)
        return 2
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.certificates(found.certificates, found.failed, Masks(reveal=reveal))), output)
    else:
        from trace_lens.render.terminal import lists, pages

        write(pages.render(lists.certificates(found, expected), color, to_file=output is not None), output)
    if found.failed:
        return 3
    return int(expected is not None and not any(one.matches for one in found.certificates))
