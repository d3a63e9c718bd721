"""What was tried live, as blocks: first what is wrong and whose it is, then each host with what depends on it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from trace_lens.common.moments import show_moment
from trace_lens.live.probing import Probe, overall
from trace_lens.live.steps import BLOCKED, FAILED, OK, RISK, SKIPPED, Tried
from trace_lens.render.document import BLANK, Document, Paragraph, Span, answer, heading, prose, shown, spans_of
from trace_lens.workspace.records import Workspace

_STYLE = {OK: "ok", RISK: "risk", FAILED: "break", BLOCKED: "unchecked", SKIPPED: "unchecked"}
_WHAT = {
    "dns": "name",
    "tcp": "port",
    "tls": "TLS",
    "http": "HTTP",
    "document": "document",
    "keys": "keys",
    "endpoint": "endpoint",
    "clock": "clock",
    "request": "request",
    "domain": "domain",
}


def probe_pages(runs: Sequence[Probe], workspace: Workspace, *, full: bool = False) -> Document:
    """The answer first; then a tree of what was tried; `full` shows the evidence."""
    last = overall(runs)
    yield from _answer(last, workspace, len(runs))
    by_id = {tried.step.id: tried for tried in last.steps}
    for title, steps in _hosts(last):
        yield BLANK
        yield heading(title)
        blocked = [tried for tried in steps if tried.outcome.status == BLOCKED and not full]
        for tried in steps:
            if tried not in blocked and (full or not _says_nothing(tried)):
                yield from _step(tried, runs, full=full)
        if blocked:
            yield from _blocked(blocked, by_id)


def _says_nothing(tried: Tried) -> bool:
    """Whether a step went well and found nothing: a name without an alias."""
    return tried.step.id.startswith("cname:") and tried.outcome.status in (OK, SKIPPED) and not tried.outcome.evidence


def _blocked(steps: Sequence[Tried], by_id: dict[str, Tried]) -> Document:
    """What could not be tried, with what blocks it in the end."""
    groups: dict[str, list[str]] = {}
    for tried in steps:
        cause = tried
        while cause.blocked_by and cause.blocked_by[0] in by_id:
            cause = by_id[cause.blocked_by[0]]
        groups.setdefault(f"{_WHAT[cause.step.what]} {cause.step.target}", []).append(
            f"{_WHAT[tried.step.what]} {tried.step.target}"
        )
    for cause_words, what in groups.items():
        words = f"not tried, as {shown(cause_words)} failed: {', '.join(map(shown, what))}"
        yield Paragraph(spans_of(Span(f"{BLOCKED:<8}", _STYLE[BLOCKED]), words), 2)


def _answer(last: Probe, workspace: Workspace, times: int) -> Document:
    failed = [tried for tried in last.steps if tried.outcome.status == FAILED]
    blocked = sum(tried.outcome.status == BLOCKED for tried in last.steps)
    risks = [tried for tried in last.steps if tried.outcome.status == RISK]
    words = f": {len(last.steps)} steps tried" + (f", {times} times" if times > 1 else "")
    words += f", {blocked} blocked" if blocked else ""
    if not failed:
        more = f"; {len(risks)} {'is a risk' if len(risks) == 1 else 'are risks'}" if risks else ""
        yield answer("ALL WELL" if not risks else "WORKS", "ok" if not risks else "risk", f"{words}{more}.")
    else:
        yield answer(f"{len(failed)} FAILED", "break", f"{words}.")
    for tried in (*failed, *risks):
        found = tried.outcome.finding
        if found is None:
            continue
        style = "break" if tried.outcome.status == FAILED else "risk"
        side = f" ({found.side})" if found.side else ""
        names = ", ".join(workspace.apps[app].name for app in tried.step.apps[:4])
        more = f" and {len(tried.step.apps) - 4} more" if len(tried.step.apps) > 4 else ""
        yield Paragraph(
            spans_of(Span(found.code, style), f"{side}: {shown(str(tried.outcome.detail))} For {names}{more}."), 2
        )
        yield prose(shown(str(found.remedy or "")), 4)


def _hosts(last: Probe) -> Iterator[tuple[str, list[Tried]]]:
    """The steps by the host that they begin at, in the order in which hosts came."""
    by_id = {tried.step.id: tried for tried in last.steps}

    def root(tried: Tried) -> str:
        while tried.step.after and tried.step.after[0] in by_id:
            tried = by_id[tried.step.after[0]]
        return tried.step.target

    groups: dict[str, list[Tried]] = {}
    for tried in last.steps:
        groups.setdefault(root(tried).removesuffix(" CNAME"), []).append(tried)
    yield from groups.items()


def _step(tried: Tried, runs: Sequence[Probe], *, full: bool) -> Document:
    step, outcome = tried.step, tried.outcome
    status = Span(f"{outcome.status:<8}", _STYLE[outcome.status])
    took = f" ({tried.seconds:.2f} s)" if tried.seconds >= 1 else ""
    # What failed is told at the top in full.
    detail = outcome.finding.code if outcome.finding else shown(str(outcome.detail))
    words = f"{_WHAT[step.what]} {shown(step.target)}: {detail}{took}{_often(tried, runs)}"
    yield Paragraph(spans_of(status, words), 2)
    if full:
        for label, value in outcome.evidence:
            yield prose(f"{label}: {shown(value)}", 12, "quiet")


def _often(tried: Tried, runs: Sequence[Probe]) -> str:
    """How often a step failed, where it was tried several times."""
    if len(runs) == 1:
        return ""
    told = [other for run in runs for other in run.steps if other.step.id == tried.step.id]
    bad = [show_moment(other.at.replace(microsecond=0)) for other in told if other.outcome.status == FAILED]
    if not bad:
        return ""
    when = f"at {bad[0]}" if len(bad) == 1 else f"the first at {bad[0]}, the last at {bad[-1]}"
    return f"; failed {len(bad)} of {len(told)} times, {when}"
