"""What ends when, and who is ready for what comes after, as blocks."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from trace_lens.common.moments import show_duration, show_moment
from trace_lens.fleet.dates import Ending
from trace_lens.fleet.rollovers import NOT_READY, Rollover
from trace_lens.render.document import BLANK, Document, Span, answer, heading, prose, table
from trace_lens.workspace.records import Workspace

_READY = {"yes": Span("yes", "ok"), "no": Span("no", "break"), "unknown": Span("not known", "unchecked")}
_STATE = {
    "ready": Span("ready", "ok"),
    "fetches": Span("fetches it", "ok"),
    "not-ready": Span("not ready", "break"),
    "unknown": Span("not known", "unchecked"),
}
_SHOWN = 3


def expiry_pages(
    near: Sequence[Ending],
    changing: Sequence[Rollover],
    workspace: Workspace,
    now: datetime,
    span: timedelta,
    following: Ending | None,
) -> Document:
    """The answer first; then the dates, and a table for each change of key that is under way."""
    yield from _answer(near, now, span, following)
    if near:
        yield BLANK
        yield table(
            ("ends", "in days", "what", "hits", "ready"),
            [
                (show_moment(ending.at), str(ending.days(now)), ending.what, _hits(ending), _READY[ending.ready])
                for ending in near
            ],
        )
    for change in changing:
        waiting = [ready for ready in change.apps if ready.state == NOT_READY]
        provider = workspace.providers[change.provider].name
        yield BLANK
        if isinstance(change.next, str):
            yield heading(f"{provider}: who is ready for key {change.next}", level=1)
            words = f"It is in {change.file}. "
        else:
            yield heading(f"{provider}: who is ready for certificate {change.next.sha256.hex[:8]}", level=1)
            begins, ends = show_moment(change.next.not_before), show_moment(change.next.not_after)
            words = f"It is in {change.file}, from {begins} to {ends}. "
        words += (
            f"{len(waiting)} of {len(change.apps)} are not ready." if waiting else "Nobody is known not to be ready."
        )
        yield prose(words)
        yield table(
            ("application", "state", "because"),
            [
                (workspace.apps[ready.app].name, _STATE[ready.state], ready.because)
                for ready in sorted(change.apps, key=lambda item: list(_STATE)[::-1].index(item.state))
            ],
        )


def _answer(near: Sequence[Ending], now: datetime, span: timedelta, following: Ending | None) -> Document:
    within = show_duration(span)
    if not near:
        words = f"Nothing on record ends within {within}."
        if following is not None:
            words += f" The next date: {following.what}, {show_moment(following.at)} (in {following.days(now)} days)."
        yield answer("CLEAR", "ok", f": {words}")
        return
    gone = [ending for ending in near if ending.at <= now]
    coming = [ending for ending in near if ending.at > now]
    apps = {hit.app for ending in near for hit in ending.hits}
    told = [f"{len(coming)} date{'' if len(coming) == 1 else 's'} within {within}"] if coming else []
    told += [f"{len(gone)} already past"] if gone else []
    words = f": {', '.join(told)}"
    words += f"; {len(apps)} application{'' if len(apps) == 1 else 's'} hit."
    yield answer("ENDS SOON" if coming else "ENDED", "break" if gone else "risk", words)


def _hits(ending: Ending) -> str:
    names = [hit.app for hit in ending.hits]
    if not names:
        return "nobody on record"
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more
