"""How far a long work is, on standard error, where a person watches: from two seconds on, a few times a second."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import click

_AFTER, _EVERY = 2.0, 0.25
Told = Callable[[int, int], None]


@contextmanager
def watched(what: str) -> Iterator[Told | None]:
    """What hears how much of the work is done, of things called `what`, and how much there is (0: not known); None if
    nobody watches.

    The line is taken away when the block ends.
    """
    if not sys.stderr.isatty():
        yield None
        return
    begin = time.monotonic()
    last = begin + _AFTER - _EVERY
    shown = False

    def told(done: int, whole: int) -> None:
        nonlocal last, shown
        now = time.monotonic()
        if now - last < _EVERY:
            return
        last, shown = now, True
        rate = done / max(now - begin, 0.001)
        left = f", {(whole - done) / rate:,.0f} s left" if whole and rate else ""
        of = f" of {whole:,}" if whole else ""
        click.echo(f"\r\x1b[K{done:,}{of} {what}, {rate:,.0f} a second{left} ", err=True, nl=False)

    try:
        yield told
    finally:
        if shown:
            click.echo("\r\x1b[K", err=True, nl=False)
