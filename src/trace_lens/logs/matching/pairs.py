"""Attempts and the events that may belong to them, pair by pair, as arrays."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Places = NDArray[np.int64]


class Gaps(NamedTuple):
    """One entry for each moment of a pair's attempt: the gap to the event (seconds, clock corrected), the share of that
    moment in its attempt, and the place of the pair.
    """

    seconds: Numbers
    share: Numbers
    pair: Places


class Kinds(NamedTuple):
    """The kinds of events of a source: the share of each in the whole log, whether it tells a yes or a no, and whether
    an attempt has one line of it, as far as the source itself tells.
    """

    share: Numbers
    ends: NDArray[np.bool_]
    once: NDArray[np.bool_]


class Background(NamedTuple):
    """What else may have brought a pair's event: the rate of such events without retries, in events a second, and
    whether that is the rate of its id or of its user.
    """

    rate: Numbers
    by_id: NDArray[np.bool_]
    by_user: NDArray[np.bool_]


class Crowd(NamedTuple):
    """How many of the attempt's other candidates of the kind lie within half a minute of a pair's event; 1 for the
    second of two lines that say the same, else 0; and how often the attempt came back to the application.
    """

    near: Numbers
    twin: Places
    rounds: Places


@dataclass(slots=True)
class Pairs:
    """Candidates of one source: one entry a pair of an attempt and an event.

    `attempt` and `event` are places in lists that all sources share. `levels` has a row a mark, -1 where there is
    nothing to compare; `weight` is how likely the person is meant at all. `kind` numbers the kind of event; `nearest`
    is the smallest gap, in seconds.
    """

    source: str
    attempt: Places
    event: Places
    levels: NDArray[np.int8]
    weight: Numbers
    kind: Places
    nearest: Numbers
    gaps: Gaps
    kinds: Kinds
    background: Background
    crowd: Crowd

    def __len__(self) -> int:
        return len(self.attempt)
