"""What an attempt shows that a log may show too: its moments, and the names, ids and addresses that it carries."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import PROVIDER, Event

if TYPE_CHECKING:
    from trace_lens.logs.matching.clocks import Clock
    from trace_lens.workspace.log_settings import LogCode
from trace_lens.workspace.log_sources import LogSource


class Instant(NamedTuple):
    """A moment of an attempt, and on which side (`application`, `provider`) it happened; None where nothing tells."""

    at: datetime
    side: str | None = None


class Seen(NamedTuple):
    """One attempt as a log might have it.

    `at` is the moment that it is known by and `moments` are all that it shows. `names` are spellings of the person,
    `ids` any strings that a log may carry too, `addresses` where the browser was. `answered` says whether the provider
    said yes, `let_in` whether the application did; None where nothing tells. `rounds` counts how often the browser came
    back to the application with an answer, as in a loop: each time leaves its own lines.
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
    rounds: int = 1


class Matched(NamedTuple):
    """An event of an attempt: its time by the true clock, how likely it belongs to the attempt, and what speaks for it.

    `because` holds of `id`, `user`, `app`, `ip`, `time` those that do. `role` is the source's.
    """

    event: Event
    corrected: datetime
    probability: float
    because: tuple[str, ...]
    role: str


class LogView(NamedTuple):
    """What the loaded logs say of one attempt: its events, in the order of their true times, and how to read them.

    `possible` are events that may be of it but are likelier not; `sources` and `clocks` go by the name of the source,
    `nodes` are the clocks of files that another one wrote.
    """

    events: tuple[Matched, ...]
    possible: tuple[Matched, ...]
    sources: Mapping[str, LogSource]
    clocks: Mapping[str, Clock]
    nodes: Sequence[Clock] = ()

    def of(self, role: str) -> list[Matched]:
        """The events of the sources of one role."""
        return [event for event in self.events if event.role == role]

    def clock_of(self, event: Event) -> Clock:
        """The clock that wrote an event."""
        node = next((clock for clock in self.nodes if clock.source == event.source and event.file in clock.files), None)
        return node or self.clocks[event.source]

    def has(self, role: str, name: str | None) -> bool:
        """Whether a log of this role is loaded that an application or provider of this name would write to."""
        for source in self.clocks:
            told = self.sources.get(source)
            owner = (told.settings.provider if role == PROVIDER else told.settings.app) if told else None
            if told and told.settings.role == role and (owner is None or owner == name):
                return True
        return False

    def meaning(self, matched: Matched) -> LogCode | None:
        """What the organisation says that the code of an event means."""
        told = self.sources.get(matched.event.source)
        return told.settings.codes.get(matched.event.code) if told and matched.event.code else None
