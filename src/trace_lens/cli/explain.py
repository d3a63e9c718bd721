"""`trace-lens explain`."""

from __future__ import annotations

from collections.abc import Iterable
from importlib.resources import files
from typing import Any

import click

from trace_lens.cli import completing
from trace_lens.cli.session import Session, with_session

_FOLDER = files("trace_lens.render").joinpath("schemas")
_SCHEMAS = sorted(path.name.removesuffix(".json") for path in _FOLDER.iterdir())


@click.command(
    epilog="Examples:\n\n  trace-lens explain audience-mismatch\n\n"
    "  trace-lens explain it keeps asking for the password\n\n  trace-lens explain fingerprint rollover\n\n"
    "  trace-lens explain --schema diagnosis",
)
@click.argument("words", nargs=-1, metavar="[CODE|WORDS]...", shell_complete=completing.codes)
@click.option("--schema", type=click.Choice(_SCHEMAS), help="Print the JSON Schema of a command's output.")
@with_session("text", "json", workspace=False)
def command(session: Session, words: tuple[str, ...], schema: str | None) -> int:
    """Explain a finding, or what a caller says: what to ask, what to record, and what it usually is.

    Takes the code of a finding, a complaint in the caller's words, or words to look for; with neither, lists all
    findings by stage.
    """
    if schema:
        session.write(_FOLDER.joinpath(f"{schema}.json").read_text("utf-8"))
        return 0
    from trace_lens.common import catalogue
    from trace_lens.common.difference import nearest
    from trace_lens.common.symptoms import search, telling_words

    text = " ".join(words).strip().lower()
    codes = [entry.code for entry in catalogue.everything()] if text else []
    meant = nearest(text, codes) if len(words) == 1 and "-" in text else None
    if not text:
        found = list(catalogue.everything())
    else:
        found = (
            [catalogue.entry(text)]
            if text in codes
            else []
            if meant
            else catalogue.search(" ".join(telling_words(text)))
        )
    symptoms = search(text) if text and text not in codes and not meant else []
    if not found and not symptoms:
        hint = f"Did you mean {meant}?" if meant else "trace-lens explain lists all of them."
        raise click.UsageError(f"No finding or complaint has the code {text!r} or these words. {hint}")

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents import lists

        if symptoms:
            return lists.heard(symptoms, found)
        if len(found) == 1:
            return lists.explanation(found[0])
        return lists.ranked(found) if text else lists.listing(found)

    def document() -> Any:
        from trace_lens.render import as_json

        return as_json.explanations(found, symptoms)

    session.emit(pages, document)
    return 0
