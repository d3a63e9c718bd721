"""What an attempt shows that a log may show too: its moments, and the names, ids and addresses that it carries."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from trace_lens.logs.events import Event

APPLICATION, PROVIDER = "application", "provider"


class Instant(NamedTuple):
    """A moment of an attempt, and on which side (`application`, `provider`) it happened; None where nothing tells."""

    at: datetime
    side: str | None = None


class Seen(NamedTuple):
    """One attempt as a log might have it.

    `at` is the moment that it is known by and `moments` are all that it shows. `names` are spellings of the person,
    `ids` any strings that a log may carry too, `addresses` where the browser was. `answered` says whether the provider
    said yes, `let_in` whether the application did; None where nothing tells.
    """

    key: str
    at: datetime | None
    moments: tuple[Instant, ...] = ()
    names: frozenset[str] = frozenset()
    app: str | None = None
    provider: str | None = None
    ids: frozenset[str] = frozenset()
    addresses: frozenset[str] = frozenset()
    answered: bool | None = None
    let_in: bool | None = None


class Matched(NamedTuple):
    """An event of an attempt: its time by the true clock, how likely it belongs to the attempt, and what speaks for it.

    `because` holds of `id`, `user`, `app`, `ip`, `time` those that do. `role` is the source's.
    """

    event: Event
    corrected: datetime
    probability: float
    because: tuple[str, ...]
    role: str
