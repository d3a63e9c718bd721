"""What ends when, as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from trace_lens.common.moments import show_moment
from trace_lens.fleet.dates import Ending
from trace_lens.fleet.rollovers import Rollover

Json = dict[str, Any]


def expiry(
    found: Sequence[Ending], changing: Sequence[Rollover], now: datetime, span: timedelta, *, as_rows: bool = False
) -> Json:
    """`trace-lens/expiry/1`; as rows of a table, whom a date hits is text."""
    return {
        "schema": "trace-lens/expiry/1",
        "now": show_moment(now.replace(microsecond=0)),
        "within_days": span.total_seconds() / 86_400 if span % timedelta(days=1) else span.days,
        "dates": [_date(ending, now, as_rows=as_rows) for ending in found],
        "rollovers": [
            {
                "provider": change.provider,
                "next": {"sha256": str(change.next.sha256), "file": change.file},
                "apps": [ready._asdict() for ready in change.apps],
            }
            for change in changing
        ],
    }


def _date(ending: Ending, now: datetime, *, as_rows: bool) -> Json:
    return {
        "at": show_moment(ending.at),
        "days": ending.days(now),
        "kind": ending.kind,
        "what": ending.what,
        "provider": ending.provider,
        "app": ending.app,
        "purpose": ending.purpose,
        "sha256": ending.sha256,
        "file": ending.file,
        "where": str(ending.where),
        "hits": [f"{hit.app} ({hit.how})" if as_rows else hit._asdict() for hit in ending.hits],
        "ready": ending.ready,
    }
