"""Answers that were posted and then redirected: what browsers make of that (RFC 9110 §15.4)."""

from __future__ import annotations

from trace_lens.attempts.journeys import REDIRECT, Hop, Way
from trace_lens.checks.way.parties import brings_answer
from trace_lens.common.addresses import same_address
from trace_lens.common.sentences import say
from trace_lens.intake.exchanges import Exchange

_BY_GET = (301, 302, 303)
"""Statuses at which browsers go on by GET, without what was posted; at 307 and 308 they post again."""


def lost_post(way: Way, hop: Hop) -> Exchange | None:
    """The request that had posted the answer, where the application redirected it to the same address, spelled anew,
    and the browser went on by GET; None where a hop is no such one.

    A redirect to another page is the usual way on, after the answer was taken.
    """
    posted = hop.cause
    if hop.how != REDIRECT or posted is None or posted.method != "POST" or posted.status not in _BY_GET:
        return None
    alike = posted.parts.path.rstrip("/").casefold() == hop.exchange.parts.path.rstrip("/").casefold()
    if hop.exchange.method != "GET" or not alike or brings_answer(hop):
        return None
    return posted if any(other.exchange is posted and brings_answer(other) for other in way.hops) else None


def words_of_lost_post(posted: Exchange) -> str:
    """What became of an answer that was redirected."""
    return say(
        " The answer had been posted to {address}, which redirected it there with {status}: a browser then asks by "
        "GET, without what was posted.",
        address=posted.plain_url,
        status=posted.status,
    )


TO_KEEP_IT = (
    "Take the answer at the address that it is posted to, or redirect it by 307 or 308, or register the address that "
    "it is redirected to."
)


def came_first_to(way: Way, back: Hop, address: str) -> bool:
    """Whether the answer came to an address before the application redirected it to where it came in the end."""
    return any(brings_answer(hop) and same_address(address, hop.exchange.plain_url) for hop in way.before(back))
