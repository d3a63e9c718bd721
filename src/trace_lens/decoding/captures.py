"""Whole captures laid open: what made them, how much is in them, the way in one line a hop, what is left out."""

from __future__ import annotations

from collections import Counter
from typing import Any

from trace_lens.attempts.cookies import Refused, read_set_cookie
from trace_lens.attempts.journeys import whole_way
from trace_lens.common import limits
from trace_lens.common.addresses import plain
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_moment
from trace_lens.common.raising import finding
from trace_lens.intake.exchanges import STATIC, Capture, Exchange
from trace_lens.intake.peeling import Peeled


def summary_of(capture: Capture) -> dict[str, Any]:
    """What a person looks for first in a capture."""
    moments = [exchange.at for exchange in capture.exchanges if exchange.at]
    counted = Counter(exchange.host for exchange in capture.exchanges if exchange.kind != STATIC and exchange.host)
    left_out = sum(exchange.body_left_out for exchange in capture.exchanges)
    return {
        "made_by": capture.made_by or None,
        "entries": len(capture.exchanges),
        "noise": sum(exchange.kind == STATIC for exchange in capture.exchanges),
        "hosts": [f"{host} ({count})" for host, count in counted.most_common(12)],
        "first": show_moment(min(moments)) if moments else None,
        "last": show_moment(max(moments)) if moments else None,
        "cookies": "shown" if capture.tells_cookies else "left out of the capture, or there were none",
        "bodies_left_out": left_out,
        "notes": [*capture.notes, *([capture.cut] if capture.cut else [])],
    }


def content_of(source: str, peeled: Peeled) -> dict[str, Any]:
    """The way, one row a hop, addresses without query and fragment."""
    capture = peeled.capture
    if capture is None:
        return {}
    way = whole_way(source, capture, peeled.found)
    rows = [
        {
            "where": hop.exchange.place,
            "at": show_moment(hop.exchange.at) if hop.exchange.at else None,
            "method": hop.exchange.method,
            "url": plain(hop.exchange.url),
            "status": hop.exchange.status or None,
            "how": hop.how,
            "carries": list(hop.kinds),
            "redirects_to": plain(hop.exchange.redirects_to) if hop.exchange.redirects_to else None,
        }
        for hop in way.hops[: limits.LISTED_ENTITIES]
    ]
    more = len(way.hops) - len(rows)
    cookies = [row for exchange in capture.exchanges for row in _cookies(exchange)][: limits.LISTED_ENTITIES]
    return {"hops": rows, **({"more": f"{more} more hops"} if more > 0 else {}), "cookies": cookies}


def _cookies(exchange: Exchange) -> list[dict[str, Any]]:
    """The cookies that a response sets, as browsers take them."""
    rows = []
    for line in exchange.set_cookies:
        read = read_set_cookie(line, exchange)
        refused = read.reason if isinstance(read, Refused) else None
        told = [part.strip() for part in line.split(";")[1:]]
        rows.append({"where": exchange.place, "name": read.name, "attributes": "; ".join(told), "refused": refused})
    return rows


def findings_of(source: str, capture: Capture) -> tuple[Finding, ...]:
    """That a capture breaks off, where it does."""
    if capture.cut is None:
        return ()
    evidence = Evidence("the capture", f"{len(capture.exchanges)} entries", source, Location(part="the whole"))
    words = f"The capture is not whole: {capture.cut}. What is there was used."
    return (finding("capture-truncated", words, evidence=(evidence,)),)
