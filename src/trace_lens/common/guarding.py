"""A fault while one thing is read or judged stops nothing else: it becomes a sentence, its traceback goes to the log.

What comes from a ticket may be damaged in ways that nobody thought of. Each source, and each message and attempt in it,
is worked on under a guard, so that one bad one never takes the others with it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from trace_lens.common.limits import Refused

T = TypeVar("T")
LOGGER = "trace_lens"
"""The logger that tracebacks go to, at level DEBUG."""
_SHOWN = 200


class Meant(Exception):
    """An error that says by itself what is wrong, and of more than one source: no guard holds it back."""


def why(error: Exception, doing: str) -> str:
    """Why something failed, in one sentence; the traceback of what is a fault of the program goes to the log.

    `doing` is what was being done: "reading entry 7".
    """
    if isinstance(error, Refused):
        return str(error)
    if isinstance(error, RecursionError):
        return f"{doing} failed: it is nested too deep"
    if isinstance(error, MemoryError):
        return f"{doing} failed: it needs more memory than there is"
    import logging

    logging.getLogger(LOGGER).debug("%s failed", doing, exc_info=error)
    said = " ".join(str(error).split())[:_SHOWN]
    kind = f"{type(error).__name__}: {said}" if said else type(error).__name__
    return f"{doing} failed ({kind}); this is a fault of trace-lens, -v shows where"


class Faults:
    """What failed, source by source: pairs of a source and why."""

    def __init__(self) -> None:
        self.told: list[tuple[str, str]] = []

    def tell(self, source: str, because: str) -> None:
        """Put down that a source, or something in it, could not be used."""
        if (source, because) not in self.told[-8:]:
            self.told.append((source, because))

    def attempt(self, source: str, doing: str, work: Callable[[], T]) -> T | None:
        """What the work gives, or None where it failed. Raises what is Meant."""
        try:
            return work()
        except Meant:
            raise
        except Exception as error:
            self.tell(source, why(error, doing))
            return None
