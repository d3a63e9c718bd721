"""`trace-lens explain`."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import click

from trace_lens.cli.options import output_options, write

_SCHEMAS = (
    "diagnosis", "decode", "certs", "sides", "compare", "identify", "apps", "check", "explain", "log-check", "log-load",
    "log-files", "events",
)  # fmt: skip


@click.command(
    epilog="Examples:\n\n  trace-lens explain audience-mismatch\n\n  trace-lens explain fingerprint rollover\n\n"
    "  trace-lens explain --schema diagnosis",
)
@click.argument("words", nargs=-1, metavar="[CODE|WORDS]...")
@click.option("--schema", type=click.Choice(_SCHEMAS), help="Print the JSON Schema of a command's output.")
@output_options("text", "json")
def command(
    words: tuple[str, ...], schema: str | None, form: str, output: Path | None, reveal: bool, color: str
) -> int:
    """What a finding means, why it happens, how to repair it, and where the standard says so.

    Takes the code of a finding, or words to look for; with neither, lists all findings by stage.
    """
    if schema:
        write(files("trace_lens.render").joinpath("schemas", f"{schema}.json").read_text("utf-8"), output)
        return 0
    from trace_lens.common import catalogue
    from trace_lens.common.difference import nearest

    text = " ".join(words).strip().lower()
    codes = [entry.code for entry in catalogue.everything()] if text else []
    meant = nearest(text, codes) if len(words) == 1 and "-" in text else None
    if not text:
        found = list(catalogue.everything())
    else:
        found = [catalogue.entry(text)] if text in codes else [] if meant else catalogue.search(text)
    if not found:
        hint = f"Did you mean {meant}?" if meant else "trace-lens explain lists all of them."
        raise click.UsageError(f"No finding has the code {text!r}, nor holds these words. {hint}")
    if form == "json":
        from trace_lens.render import as_json

        write(as_json.dump(as_json.explanations(found)), output)
        return 0
    from trace_lens.render.terminal import lists, pages

    lines = lists.explanation(found[0]) if len(found) == 1 else lists.listing(found)
    write(pages.render(lines, color, to_file=output is not None), output)
    return 0
