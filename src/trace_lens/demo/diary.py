"""The random numbers of the fortnight, and a diary of what was made from them: the logs are written by it later."""

from __future__ import annotations

import random
from dataclasses import dataclass, replace
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Entry:
    """One answer of a provider: to whom, when, for which address, and the ids that go with it.

    `account` is the name that was sent; `request` the id that both sides know it by, `session` that of the provider's
    session. `given` is False where the provider answered with an error.
    """

    account: str
    address: str
    issuer: str
    issued: datetime
    request: str | None
    session: str
    given: bool = True


class Diary(random.Random):
    """Random numbers from a seed; whoever makes an answer puts it down."""

    def __init__(self, seed: int) -> None:
        super().__init__(seed)
        self.entries: list[Entry] = []


def put_down(draw: random.Random, entry: Entry) -> None:
    """Put an answer down, where a diary is kept."""
    if isinstance(draw, Diary):
        draw.entries.append(entry)


def amend(draw: random.Random, issued: datetime) -> None:
    """Put the last entry at another moment."""
    if isinstance(draw, Diary):
        draw.entries[-1] = replace(draw.entries[-1], issued=issued)
