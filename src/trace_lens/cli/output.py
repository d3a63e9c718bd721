"""The one way out for results: standard output or the file that was named, without tokens unless they are revealed."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

import click

from trace_lens.common.secrets_in_text import without_tokens

_PLAIN = str.maketrans({"›": ">", "→": "->", "…": "...", "─": "-", "§": "section "})
"""Signs that a terminal without Unicode cannot show, and what stands in for them."""
Put = Callable[[str], object]
"""Takes the next piece of a result; a token is never split between two pieces."""


def write(text: str, output: Path | None) -> None:
    """Write a result that is one text for people."""
    _write(lambda put: put(text), output, for_people=True)


def write_pieces(pieces: Callable[[Put], object], output: Path | None) -> None:
    """Write a result for programs, always UTF-8: `pieces` hands its text over piece by piece."""
    _write(pieces, output, for_people=False)


def _write(pieces: Callable[[Put], object], output: Path | None, *, for_people: bool) -> None:
    if output is None:
        stream = sys.stdout.buffer
        plain = for_people and (sys.stdout.encoding or "utf-8").lower().replace("-", "") != "utf8"
        _put_all(pieces, stream, sys.stdout.encoding if plain else None)
        stream.flush()
        return
    try:
        with output.open("wb") as file:
            _put_all(pieces, file, None)
    except OSError as error:
        raise click.UsageError(f"--output: {output} cannot be written: {error.strerror}") from None


def _put_all(pieces: Callable[[Put], object], stream: BinaryIO, encoding: str | None) -> None:
    """Write all pieces and the end of the last line, in UTF-8 where no other `encoding` is named."""
    reveals = _reveals()
    last = ""

    def put(text: str) -> None:
        nonlocal last
        text = text if reveals else without_tokens(text)
        last = text or last
        if encoding is None:
            stream.write(text.encode("utf-8", "backslashreplace"))
        else:
            stream.write(text.translate(_PLAIN).encode(encoding, "replace"))

    pieces(put)
    if last and not last.endswith("\n"):
        stream.write(b"\n")


def _reveals() -> bool:
    context = click.get_current_context(silent=True)
    return bool(context and context.params.get("reveal"))
