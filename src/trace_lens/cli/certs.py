"""`trace-lens certs`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from trace_lens.cli.options import (
    Moment,
    clock,
    faults_option,
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
@click.option("--at", type=Moment(), metavar="TIME", help="The moment of the attempt; else as the message tells.")
@now_option
@faults_option
@workspace_option
@output_options("text", "json")
def command(
    sources: tuple[str, ...],
    expect: str | None,
    at: datetime | None,
    now: datetime | None,
    workspace_dir: Path | None,
    form: str,
    output: Path | None,
    reveal: bool,
    color: str,
) -> int:
    """Certificates in anything: names, validity, fingerprints, and which applications pin them.

    A SOURCE may be PEM, DER, PKCS#7, PKCS#12, metadata, a captured message or a key set. A password is read from
    TRACE_LENS_KEY_PASSWORD, or asked for.

    Exit status: 0, 1 where --expect fits none of them, 3 where a source holds none.
    """
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.certificates import certificates_of, read_expected
    from trace_lens.workspace.problems import SettingsError

    try:
        expected = read_expected(expect) if expect is not None else None
    except ValueError as error:
        raise click.UsageError(f"--expect: {error}.") from None
    workspace, today = open_workspace(workspace_dir), clock(now)
    try:
        found = certificates_of(sources_of(sources), workspace, today, expected, at)
    except SettingsError as error:
        report_settings(error)
        return 2
    if form == "json":
        from trace_lens.render import as_json

        document = as_json.certificates(found.certificates, found.failed, Masks(reveal=reveal), today)
        write(as_json.dump(document), output)
    else:
        from trace_lens.render.terminal import lists, pages

        write(pages.render(lists.certificates(found, expected, today), color, to_file=output is not None), output)
    if found.failed:
        return 3
    return int(expected is not None and not any(one.matches for one in found.certificates))
