"""All applications at a glance, as blocks: what changed last, one row an application, changes with what happened near,
who fails where others get in, and the causes that are shared.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from trace_lens.common.moments import show_moment
from trace_lens.fleet.apart import Apart
from trace_lens.fleet.binomial import Rate
from trace_lens.fleet.overview import LOGS, AppState, Change, Fleet, SharedChange, changes_together, rising, worse
from trace_lens.render.document import (
    BLANK,
    Copied,
    Document,
    Paragraph,
    Span,
    answer,
    heading,
    prose,
    spans_of,
    table,
)

_MOST_CAUSES = 8
_MOST_NEAR = 4
_WHAT = {"person": "person", "address": "address", "place": "network"}


def fleet_pages(found: Fleet, now: datetime, *, full: bool = False) -> Document:
    """The answer first; `full` leaves nothing out."""
    shared = changes_together(found)
    yield from _answer(found, shared)
    yield BLANK
    yield from _applications(found, now)
    if shared:
        yield BLANK
        yield heading("What changed, and when")
        for number, change in enumerate(shared):
            if number:
                yield BLANK
            yield from _change(change, full=full)
    apart = [(state, item) for state in found.apps for item in state.apart]
    if apart:
        yield BLANK
        yield heading("Who fails where others get in")
        yield table(
            ("application", "who", "failed", "others"),
            [(state.app.name, _who(item), _of(item), _share(_others(state, item))) for state, item in apart],
        )
    yield from _causes(found, full=full)
    yield from _remarks(found)


def _answer(found: Fleet, shared: Sequence[SharedChange]) -> Document:
    if found.span is None:
        count = len(found.apps)
        captures = f", {found.captures} captured sign-ins" if found.captures else ""
        yield answer(
            "NO SIGN-INS", "unchecked", f": {count} applications on record{captures}; the loaded logs tell none."
        )
        yield prose("Rates and changes need logs of the time: trace-lens logs load", style="quiet")
        return
    failing = [state for state in found.apps if state.changes and worse(state.changes[-1])]
    begin, end = (_short(moment) for moment in found.span)
    attempts = sum(state.rate.attempts for state in found.apps)
    period = f"{attempts:,} sign-ins at {len(found.apps)} applications, {begin} to {end}"
    if failing:
        names = ", ".join(state.app.name for state in failing[:4]) + (" …" if len(failing) > 4 else "")
        verb = "fails" if len(failing) == 1 else "fail"
        yield answer(f"{len(failing)} {verb.upper()} MORE THAN BEFORE", "break", f": {names}. {period}.")
    elif shared:
        yield answer("BACK TO BEFORE", "ok", f": every failure rate that rose has fallen again. {period}.")
    else:
        yield answer("NO CHANGE", "ok", f": no failure rate has jumped. {period}.")
    for state in rising(found):
        assert state.trend is not None
        rate = f"by {_percent(state.trend.per_day)} of its sign-ins a day"
        yield Paragraph(spans_of(Span("RISING SLOWLY", "risk"), f": {state.app.name} fails more often, {rate}."))
    for state in found.apps:
        for item in state.apart:
            if item.what != "person":
                said = f": {state.app.name} fails for {_who(item)}, and for others it does not."
                yield Paragraph(spans_of(Span("ONE PLACE ONLY", "break"), said))


def _applications(found: Fleet, now: datetime) -> Document:
    """One row an application, those that fail now first."""
    order = sorted(
        found.apps, key=lambda state: (not (state.changes and worse(state.changes[-1])), -(state.rate.share or -1.0))
    )
    yield table(
        ("application", "sign-ins", "failed", "95 %", "settings", "most often", "ends in"),
        [
            (
                state.app.name,
                str(state.rate.attempts),
                _percent(state.rate.share) if state.rate.share is not None else Span("none", "unchecked"),
                _interval(state.rate),
                _settings(state),
                state.common.code if state.common else "",
                _count(state.setup.next_date.days(now), "day") if state.setup.next_date else "",
            )
            for state in order
        ],
    )


def _interval(rate: Rate) -> str:
    if rate.interval is None:
        return ""
    low, high = (round(100 * end) for end in rate.interval)
    return f"{low}–{high}"


def _settings(state: AppState) -> Span:
    breaks, risks = state.setup.breaks, state.setup.risks
    if breaks:
        return Span(_count(breaks, "break"), "break")
    return Span(_count(risks, "risk"), "risk") if risks else Span("ok", "ok")


def _change(shared: SharedChange, *, full: bool) -> Document:
    count = len(shared.apps)
    who = shared.apps[0][0].app.name if count == 1 else f"{count} applications"
    word = ("worse", "break") if shared.worse else ("better", "ok")
    when = f" between {show_moment(shared.earliest)} and {show_moment(shared.latest)}"
    yield Paragraph(spans_of(f"{who}: ", Span(word[0], word[1]), when), 2)
    for state, change in shared.apps:
        yield prose(_words(state, change, alone=count == 1), 4)
    listed = shared.near if full else shared.near[:_MOST_NEAR]
    for item in listed:
        yield prose(f"near it: {show_moment(item.at)} {item.what}", 4)
    if len(shared.near) > len(listed):
        yield prose(f"{len(shared.near) - len(listed)} more happened near it (-v)", 4, "quiet")
    if not shared.near:
        yield prose("nothing on record happened within a day before", 4, "quiet")


def _words(state: AppState, change: Change, *, alone: bool) -> str:
    name = "" if alone else f"{state.app.name}: "
    before, after = _percent(change.before.share or 0.0), _percent(change.after.share or 0.0)
    slope = "" if change.abrupt else "; a slow slope would look much the same"
    return f"{name}{before} of {change.before.attempts} failed before, {after} of {change.after.attempts} after{slope}"


def _who(item: Apart) -> str:
    return f"{_WHAT[item.what]} {item.value}"


def _of(item: Apart) -> str:
    return f"{item.failures} of {item.attempts}"


def _others(state: AppState, item: Apart) -> Rate:
    return Rate(state.rate.attempts - item.attempts, state.rate.failures - item.failures)


def _share(rate: Rate) -> str:
    return f"{rate.failures} of {rate.attempts}"


def _causes(found: Fleet, *, full: bool) -> Document:
    listed = found.causes if full else found.causes[:_MOST_CAUSES]
    if not listed:
        return
    yield BLANK
    yield heading("Causes, the largest first")
    for item in listed:
        cause = item.cause
        side = f", side: {cause.side}" if cause.side else ""
        apps = ", ".join(cause.apps[:4]) + (f" and {len(cause.apps) - 4} more" if len(cause.apps) > 4 else "")
        people = f", {_count(cause.people, 'person')}" if cause.people else ""
        told = "in logs" if item.source == LOGS else "in captures"
        yield prose(
            f"{cause.attempts} × {cause.code} {told}{side}: {cause.what} ({apps or 'applications not known'}{people}; "
            f"for example {cause.example})",
            2,
        )
        if cause.value_to_set:
            yield Copied(cause.value_to_set)
    if len(found.causes) > len(listed):
        yield prose(f"{len(found.causes) - len(listed)} more causes: -v", 2, "quiet")


def _remarks(found: Fleet) -> Document:
    remarks = [f"Not counted: log {source}, {because}." for source, because in found.left_out]
    if found.others:
        names = ", ".join(f"{name} ({rate.attempts})" for name, rate in found.others[:5])
        more = f" and {len(found.others) - 5} more" if len(found.others) > 5 else ""
        remarks.append(f"In the logs, but not on record: {names}{more}.")
    if remarks:
        yield BLANK
    for words in remarks:
        yield prose(words, style="quiet")


def _percent(share: float) -> str:
    return f"{100 * share:.1f} %" if share < 0.995 and 100 * share % 1 else f"{100 * share:.0f} %"


def _count(number: int, what: str) -> str:
    plural = {"person": "people"}.get(what, f"{what}s")
    return f"{number} {what if number == 1 else plural}"


def _short(moment: datetime) -> str:
    return f"{moment:%Y-%m-%d}"
