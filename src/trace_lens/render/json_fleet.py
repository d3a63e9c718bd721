"""All applications together, and what ends when, as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from trace_lens.common.moments import show_moment
from trace_lens.common.sentences import Person
from trace_lens.fleet.binomial import Rate, Slope
from trace_lens.fleet.dates import Ending
from trace_lens.fleet.drifting import DocumentHit, Drift, Version
from trace_lens.fleet.overview import AppState, Change, Fleet, FleetCause
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
                "next": {
                    **({"kid": change.next} if isinstance(change.next, str) else {"sha256": str(change.next.sha256)}),
                    "file": change.file,
                },
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


def fleet(found: Fleet) -> Json:
    """`trace-lens/fleet/1`. Rates are null without attempts."""
    return {
        "schema": "trace-lens/fleet/1",
        "applications": [_application(state) for state in found.apps],
        "causes": [_cause(item) for item in found.causes],
        "not_on_record": [{"app": name, **_rate(rate)} for name, rate in found.others],
        "logs": {
            "from": show_moment(found.span[0]) if found.span else None,
            "to": show_moment(found.span[1]) if found.span else None,
            "left_out": [{"source": source, "because": because} for source, because in found.left_out],
        },
        "captured_attempts": found.captures,
    }


def fleet_rows(found: Fleet) -> list[Json]:
    """One row an application, flat: changes are their number and the moment of the last one."""
    rows = []
    for state in found.apps:
        told = _application(state)
        settings, ends, trend = told.pop("settings"), told.pop("next_date"), told.pop("trend")
        common, changes, apart = told.pop("first_break"), told.pop("changes"), told.pop("apart")
        told.pop("first_break_from")
        rows.append(
            {
                **told,
                "trend_per_day": trend["per_day"] if trend else None,
                "setting_breaks": settings["breaks"],
                "setting_risks": settings["risks"],
                "first_break": common,
                "changes": len(changes),
                "last_change": changes[-1]["at"] if changes else None,
                "apart": [f"{item['what']} {item['value']}" for item in apart],
                "next_date": ends["what"] if ends else None,
                "next_date_at": ends["at"] if ends else None,
            }
        )
    return rows


def _application(state: AppState) -> Json:
    ends = state.setup.next_date
    return {
        "app": state.app.id,
        **_rate(state.rate),
        "trend": _trend(state.trend),
        "first_break": state.common.code if state.common else None,
        "first_break_from": state.common.source if state.common else None,
        "settings": {"breaks": state.setup.breaks, "risks": state.setup.risks},
        "next_date": {"what": ends.what, "at": show_moment(ends.at)} if ends else None,
        "changes": [_change(change) for change in state.changes],
        "apart": [item._asdict() for item in state.apart],
    }


def _rate(rate: Rate) -> Json:
    low, high = rate.interval or (None, None)
    return {
        "attempts": rate.attempts,
        "failures": rate.failures,
        "failure_rate": _rounded(rate.share),
        "low": _rounded(low),
        "high": _rounded(high),
    }


def _rounded(share: float | None) -> float | None:
    return None if share is None else round(share, 6)


def _trend(trend: Slope | None) -> Json | None:
    return {name: _rounded(value) for name, value in trend._asdict().items()} if trend else None


def _change(change: Change) -> Json:
    return {
        "at": show_moment(change.at),
        "earliest": show_moment(change.earliest),
        "latest": show_moment(change.latest),
        "before": _rounded(change.before.share),
        "after": _rounded(change.after.share),
        "attempts_before": change.before.attempts,
        "attempts_after": change.after.attempts,
        "abrupt": change.abrupt,
        "near": [{"what": item.what, "at": show_moment(item.at)} for item in change.near],
    }


def _cause(item: FleetCause) -> Json:
    told = item.cause._asdict()
    value = told["value_to_set"]
    return {
        **told,
        "value_to_set": str(value) if isinstance(value, Person) else value,
        "apps": list(item.cause.apps),
        "from": item.source,
    }


def drift(found: Sequence[Drift]) -> Json:
    """`trace-lens/drift/1`."""
    return {
        "schema": "trace-lens/drift/1",
        "documents": [
            {
                "document": item.document.name,
                "kind": item.document.kind,
                "owner": item.document.whose,
                "status": item.status,
                "before": _version(item.before),
                "after": _version(item.after),
                "code": item.code,
                "because": item.because,
                "changes": [
                    {
                        "item": change.item,
                        "change": change.change,
                        "before": change.before,
                        "after": change.after,
                        "hits": [_hit(hit) for hit in change.hits],
                    }
                    for change in item.changes
                ],
            }
            for item in found
        ],
    }


def _hit(hit: DocumentHit) -> Json:
    return {"app": hit.app, "code": hit.code, "severity": hit.severity, "detail": str(hit.detail)}


def _version(version: Version | None) -> Json | None:
    return {"at": show_moment(version.at), "sha256": version.sha256} if version else None
