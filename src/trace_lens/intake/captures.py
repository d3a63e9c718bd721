"""Whole captures: what form they have, read into exchanges, and the messages that these carry."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import BinaryIO

from trace_lens.intake.carried import Peel, messages_of
from trace_lens.intake.commands import read_commands
from trace_lens.intake.exchanges import Capture
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.har import is_har, read_har
from trace_lens.intake.heads import looks_like_heads, read_heads

_HEAD = 64 * 1024
_COMMANDS = (b"curl", b"fetch(", b"Invoke-", b"invoke-", b'" 2', b'" 3', b'" 4', b'" 5')


def capture_in(data: bytes) -> Capture | None:
    """The capture that a source is, or None. Raises NoHar."""
    if is_har(data[:_HEAD]):
        return read_har(io.BytesIO(data))
    if any(command in data[:_HEAD] for command in _COMMANDS):
        capture = read_commands(data)
        if capture:
            return capture
    return read_heads(data) if looks_like_heads(data) else None


def may_be_capture(data: bytes) -> bool:
    """Whether it is worth reading octets as a capture."""
    return is_har(data[:_HEAD]) or any(command in data[:_HEAD] for command in _COMMANDS) or looks_like_heads(data)


def capture_from(open_it: Callable[[], BinaryIO]) -> Capture:
    """The capture of a large source that begins as a HAR, streamed. Raises NoHar, OSError."""
    with open_it() as stream:
        return read_har(stream)


def carried_by(capture: Capture, peel: Peel) -> tuple[FoundMessage, ...]:
    """The capture itself as the first thing found, then the messages that it carries, each within it."""
    return (
        FoundMessage(kind=capture.form, data=b"", layers=(), repairs=()),
        *_shifted(messages_of(capture, peel), capture.form),
    )


def _shifted(found: tuple[FoundMessage, ...], layer: str) -> list[FoundMessage]:
    return [
        message._replace(layers=(layer, *message.layers), within=None if message.within is None else message.within + 1)
        for message in found
    ]
