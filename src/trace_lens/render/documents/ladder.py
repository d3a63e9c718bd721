"""The way as a ladder: hosts as columns, a line a hop, an arrow from the host that sent the browser on to the next."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from trace_lens.common import limits
from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.steps import Step, time_spent
from trace_lens.render.document import Document, Drawing, Span, Spans, heading, prose, spans_of
from trace_lens.render.kind_words import WORDS

ELSEWHERE = "elsewhere"
_SIDES = ("application", "provider")
_LEFT = 14
"""The mark, the number and the seconds before the first column."""
_RIGHT = 6
_MOST = 4
_NARROWEST_COLUMN = 15


def hosts_of(steps: Sequence[Step], most: int) -> list[str]:
    """The hosts that get a column, in the order in which they come; what is left over shares the last one."""
    order = list(dict.fromkeys(step.request.host or "?" for step in steps))
    if len(order) <= most:
        return order
    count = {host: sum(step.request.host == host for step in steps) for host in order}
    weight = {
        host: (
            any(step.request.carries or step.marks.broken for step in steps if step.request.host == host),
            count[host],
        )
        for host in order
    }
    kept = sorted(order, key=lambda host: weight[host], reverse=True)[: most - 1]
    return [*(host for host in order if host in kept), ELSEWHERE]


def ladder(steps: Sequence[Step], hidden: int, names: dict[str, str]) -> Document:
    """The hops of an attempt. `names` are what people call the sides; `hidden` counts what is no hop."""
    noise = f"; {hidden:,} other request{'' if hidden == 1 else 's'} between them not shown" if hidden else ""
    begin = next((step.timing.at for step in steps if step.timing.at), None)
    since = f" from {show_moment(begin)}" if begin else ""
    yield heading("The way", Span(f", {len(steps)} hop{'' if len(steps) == 1 else 's'}{since}{noise}"))
    yield Drawing(partial(_drawn, steps, names))
    spent = time_spent(steps)
    words = {"other": "other hosts", "person": "pauses between", **{side: names.get(side) or side for side in _SIDES}}
    if spent:
        told = ", ".join(f"{words[side]} {seconds:.1f} s" for side, seconds in spent.items())
        yield prose(f"Time spent: {told}.", 4, "quiet")


def _drawn(steps: Sequence[Step], names: dict[str, str], width: int) -> Iterator[Spans]:
    """The hosts, and a line a hop."""
    room = width - _LEFT - _RIGHT
    hosts = hosts_of(steps, max(1, min(_MOST, room // _NARROWEST_COLUMN)))
    column = room // len(hosts)
    titles = [names.get(next((step.side for step in steps if step.request.host == host), ""), "") for host in hosts]
    if any(titles):
        yield _heads(titles, column, "head")
    yield _heads([host if host != ELSEWHERE else "other hosts" for host in hosts], column, "quiet")
    for step in _folded(steps):
        if isinstance(step, int):
            yield spans_of(" " * _LEFT, Span(f"… {step} hops not shown …", "quiet"))
            continue
        yield _rung(step, hosts, column)
        for code, style in ((step.marks.broken, "break"), (step.marks.risk if not step.marks.broken else None, "risk")):
            if code:
                place = _place(step.request.host, hosts) * column
                yield spans_of(" " * (_LEFT + place), Span(f"└ {code}", style))


def _heads(texts: Sequence[str], column: int, style: str) -> Spans:
    return spans_of(" " * _LEFT, *(Span(_fit(visible(text), column - 2).ljust(column), style) for text in texts))


def _folded(steps: Sequence[Step]) -> Iterator[Step | int]:
    """The hops, the middle ones of very many folded into their number."""
    if len(steps) <= limits.SHOWN_HOPS:
        yield from steps
        return
    ends = limits.SHOWN_HOPS // 2
    kept = [step for place, step in enumerate(steps) if place < ends or place >= len(steps) - ends or step.marks.broken]
    before = 0
    for step in kept:
        if step.number - before > 1:
            yield step.number - before - 1
        yield step
        before = step.number


def _place(host: str | None, hosts: Sequence[str]) -> int:
    host = host or "?"
    return hosts.index(host) if host in hosts else len(hosts) - 1


def _rung(step: Step, hosts: Sequence[str], column: int) -> Spans:
    """One hop: an arrow from the sender's column to the receiver's, or what happens within one column."""
    to = _place(step.request.host, hosts)
    start = None if step.sender is None or step.how == "start" else _place(step.sender, hosts)
    size = column * len(hosts)
    said = _said(step, step.request.host not in hosts)
    if start is None or start == to:
        sign = "●" if start is None else "↻"
        text = f"{sign} {_fit(said, (size - to * column) - 3)}"
        body = " " * (to * column) + text
    elif start < to:
        length = (to - start) * column
        arrow = f"├{_label(_carried(step) or step.request.method, length - 3)}▶ "
        after = _fit(_path(step, step.request.host not in hosts), size - to * column - 2)
        body = " " * (start * column) + arrow + after
        body = body[: to * column] + body[to * column :]
    else:
        length = (start - to) * column
        body = " " * (to * column) + "◀" + _label(_fit(said, length - 4), length - 2) + "┤"
    style = "break" if step.marks.broken else "head" if step.request.carries else ""
    status = str(step.answer.status) if step.answer.status else "–"
    seconds = f"{step.timing.after:.1f} s" if step.timing.after is not None else ""
    return spans_of(
        Span("> " if step.marks.decisive else "  ", "break"),
        Span(f"{step.number:>3} {seconds:>7} ", "quiet"),
        Span(body.ljust(size)[:size], style),
        Span(f" {status:>4}", "break" if step.answer.status >= 400 or not step.answer.status else ""),
    )


def _said(step: Step, show_host: bool) -> str:
    return " · ".join(filter(None, (f"{step.request.method} {_path(step, show_host)}", _carried(step))))


def _carried(step: Step) -> str:
    carried = ", ".join(WORDS.get(kind, kind.replace("-", " ")) for kind in step.request.carries)
    return " ".join(filter(None, (carried, "(in a frame)" if step.frame else "")))


def _path(step: Step, show_host: bool) -> str:
    rest = step.request.url.partition("://")[2] or step.request.url
    path = "/" + rest.partition("/")[2] if "://" in step.request.url else rest
    return visible(f"{step.request.host}{path}" if show_host else path)


def _label(text: str, length: int) -> str:
    """A text in the middle of a line of dashes."""
    text = _fit(text, length - 2)
    if not text:
        return "─" * max(0, length)
    left = max(1, (length - len(text) - 2) // 2)
    return ("─" * left + f" {text} ").ljust(length, "─")[: max(0, length)]


def _fit(text: str, length: int) -> str:
    if length < 2:
        return ""
    return text if len(text) <= length else text[: length - 1] + "…"
