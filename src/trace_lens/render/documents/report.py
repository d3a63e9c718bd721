"""Reports to hand over: the whole diagnosis for the house, what one side must do for that side, and what to ask for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from trace_lens.common import catalogue
from trace_lens.common.findings import STAGE_SENTENCES, Finding, Severity, Side, Stage
from trace_lens.common.moments import show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.common.version import __version__
from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.handover.asking import APPLICATION, PROVIDER, USER, Request, requests_of
from trace_lens.handover.places import usual_place
from trace_lens.render.document import (
    Copied,
    Document,
    Fact,
    Figure,
    Heading,
    LinkTo,
    Span,
    Steps,
    heading,
    line,
    prose,
    table,
)
from trace_lens.render.documents.answer import MOMENT, OUTCOME, REDACTED, STYLE, headline, how_sure, roots_of
from trace_lens.render.documents.diagnosis import events_table, open_in_full, overview
from trace_lens.render.documents.findings import SIDE, claim_lines, finding_lines, one_line, remedy_lines
from trace_lens.render.documents.ladder import ladder

_STATUS = {"ok": "ok", "break": "breaks", "risk": "risk", "unchecked": "not checked"}
_ASKED = {
    USER: "For the person who cannot sign in",
    APPLICATION: "For the administrator of the application",
    PROVIDER: "For the administrator of the provider",
}


class Made(NamedTuple):
    """How a report was made: when, and the sources with the digest of each (SHA-256); `named` where it names people."""

    now: datetime
    files: tuple[tuple[str, str], ...]
    named: bool = False


def title_of(diagnosis: Diagnosis, *, ask: bool = False) -> str:
    """What a report of one sign-in is called, or the letter that asks for more of it."""
    if ask:
        return f"What we need: the sign-in to {diagnosis.parties.app_name or 'an application'}"
    return f"Sign-in to {diagnosis.parties.app_name or 'an application'}: {diagnosis.outcome}"


def full_pages(
    diagnosis: Diagnosis,
    made: Made,
    way: Sequence[Figure] = (),
    axis: Sequence[Figure] = (),
    sides: Document | None = None,
) -> Document:
    """Everything that was found, for colleagues of the house."""
    yield from _answer(diagnosis)
    yield from _to_set(diagnosis, None)
    yield from _stages(diagnosis)
    yield from _evidence(diagnosis, None)
    if sides is not None:
        yield heading("Both sides' values")
        yield from sides
    if diagnosis.details.steps:
        yield heading("The way of the browser")
        yield from way
        names = {"application": diagnosis.parties.app_name or "", "provider": diagnosis.parties.provider_name or ""}
        yield from (
            block
            for block in ladder(diagnosis.details.steps, diagnosis.details.hidden_steps, names)
            if not isinstance(block, Heading)
        )
    logs = diagnosis.details.logs
    if logs is not None and logs.events:
        yield heading("In the logs")
        yield prose("By the true time: where the clock of a log is off, it was put right.", 0, "quiet")
        yield from axis
        yield from events_table(logs)
    if diagnosis.details.claims:
        yield heading("Claims")
        yield from claim_lines(diagnosis.details.claims, app_known=diagnosis.app is not None)
    yield from open_in_full(diagnosis)
    yield from _how_judged(diagnosis, made)


def side_pages(diagnosis: Diagnosis, side: Side, made: Made) -> Document:
    """What one side must do and see of it; nothing of the other side's settings, nor of other people."""
    mine = [finding for finding in roots_of(diagnosis) if finding.side in (side, Side.BOTH)]
    others = [finding for finding in roots_of(diagnosis) if finding.side not in (side, Side.BOTH)]
    yield heading("The answer")
    name = "application" if side is Side.APPLICATION else "provider"
    if mine:
        values = any(finding.value_to_set for finding in mine)
        words = f"Something must be set at the {name}." if values else f"The {name} must act."
        yield line(Span(words, "break"))
        for finding in mine:
            yield prose(
                catalogue.entry(finding.code).title + ("" if finding.certainty != "inferred" else " (most likely)")
            )
    elif diagnosis.outcome == "sound":
        yield line(Span(f"Nothing breaks this sign-in; the {name} has nothing to set.", "ok"))
    elif others:
        yield line(Span(f"The {name} has nothing to set.", "ok"))
    else:
        yield line(Span("Nothing was found that breaks this sign-in, and not everything could be checked.", "risk"))
    if diagnosis.at:
        yield Fact("when", show_moment(diagnosis.at))
    yield Fact("application", diagnosis.parties.app_name or "not on record")
    if diagnosis.subject:
        yield Fact("person", diagnosis.subject)
    yield from _to_set(diagnosis, side)
    if others:
        yield heading("What others repair")
        for finding in others:
            where = SIDE[finding.side].lower() if finding.side else "elsewhere"
            yield prose(f"{where[0].upper()}{where[1:]}: {catalogue.entry(finding.code).title}")
    yield from _evidence(diagnosis, side)
    yield from _how_judged(diagnosis, made, files=False)


def user_pages(diagnosis: Diagnosis, made: Made) -> Document:
    """What the person who cannot sign in needs to know, in plain words."""
    roots = roots_of(diagnosis)
    mine = [finding for finding in roots if finding.side is Side.USER]
    app = diagnosis.parties.app_name or "the application"
    yield heading("What happened")
    if diagnosis.outcome == "sound":
        yield prose(f"Your sign-in to {app} went well as far as it can be seen. If it still fails, try it once more.")
    elif not roots:
        yield prose(f"What was sent does not show why the sign-in to {app} failed. More is needed.")
    elif mine:
        yield prose(f"Your sign-in to {app} was stopped by something that you can put right.")
    else:
        who = _whose(roots[0], app)
        likely = "most likely " if roots[0].certainty == "inferred" else ""
        what = "a setting must be changed there" if roots[0].value_to_set else "somebody must look into it there"
        yield prose(f"Your sign-in to {app} fails. It is {likely}stopped at {who}, and {what}.")
    if diagnosis.at:
        yield Fact("when", show_moment(diagnosis.at))
    yield heading("What you can do")
    for finding in mine:
        yield prose(finding.remedy)
        if finding.value_to_set:
            yield Copied(finding.value_to_set)
    if not mine and roots:
        yield prose(f"Nothing that you could repair yourself: it is for {_whose(roots[0], app)} to act.")
        if roots[0].value_to_set and roots[0].certainty != "inferred":
            yield prose("Trying again will not help until it is changed.")
        yield prose("When your support desk tells you that it is done, close all windows of the browser and try again.")
    if not roots and diagnosis.outcome != "sound":
        yield from _requests([request for request in requests_of(diagnosis) if request.of == USER])
    yield prose(f"Written on {made.now:%Y-%m-%d}.", 0, "quiet")


def _whose(finding: Finding, app: str) -> str:
    sides = {Side.APPLICATION: app, Side.PROVIDER: "the sign-in service", Side.NETWORK: "the network in between"}
    return sides.get(finding.side or Side.BOTH, f"{app} and the sign-in service")


def ask_pages(diagnosis: Diagnosis, made: Made, of: Side | None = None) -> Document:
    """What to record and send, for those who can; `of` keeps the requests to one of them."""
    found = [request for request in requests_of(diagnosis, named=made.named) if of is None or request.of == str(of)]
    yield heading("What this is about")
    app = diagnosis.parties.app_name or "an application"
    yield prose(f"A sign-in to {app} is being looked into. Some questions cannot be answered by what is at hand.")
    if diagnosis.at:
        yield Fact("when", show_moment(diagnosis.at))
    if not found:
        yield prose("Nothing is open that anybody could send: every question was answered, or cannot be asked here.")
    yield from _requests(found)
    yield prose(f"Written on {made.now:%Y-%m-%d}.", 0, "quiet")


def _requests(requests: Iterable[Request]) -> Document:
    for request in requests:
        yield heading(_ASKED.get(request.of, "For the support desk"))
        count = request.answers
        yield prose(f"{request.what} It answers {count} open question{'' if count == 1 else 's'}.")
        yield Steps(request.steps)


def index_pages(result: Result, pages: Sequence[tuple[Diagnosis, str]]) -> Document:
    """The index of several reports: by cause, each with the pages of its sign-ins."""
    yield heading("All sign-ins")
    yield from (block for block in overview(result.diagnoses) if not isinstance(block, Heading))
    by_cause: dict[str, list[tuple[Diagnosis, str]]] = {}
    for diagnosis, page in pages:
        code = diagnosis.first_break.code if diagnosis.first_break else diagnosis.outcome
        by_cause.setdefault(code, []).append((diagnosis, page))
    for code, members in sorted(by_cause.items(), key=lambda item: -len(item[1])):
        first = members[0][0].first_break
        yield heading(f"{code}: {catalogue.entry(code).title}" if first else code)
        for diagnosis, page in members:
            yield LinkTo(f"{diagnosis.parties.app_name or 'application not known'}, {diagnosis.source}", page)
    if result.unreadable:
        yield heading("Not read, or not whole")
        for source, because in result.unreadable:
            yield prose(f"{source}: {because}.")


def nothing_pages(result: Result) -> Document:
    """No sign-in was found."""
    yield heading("The answer")
    yield line(Span("No sign-in was found in what was given.", "risk"))
    for source, because in result.unreadable:
        yield prose(f"{source}: {because}.")


def _answer(diagnosis: Diagnosis) -> Document:
    yield heading("The answer")
    if diagnosis.judged.redacted:
        yield line(Span(REDACTED, "risk"))
    yield line(Span(headline(diagnosis), STYLE[diagnosis.outcome]), f": {diagnosis.cause}")
    if diagnosis.outcome != "inconclusive":
        yield Fact("how sure", how_sure(diagnosis))
    app = f"{diagnosis.parties.app_name} ({diagnosis.app})" if diagnosis.app else "not on record"
    yield Fact("application", app)
    yield Fact("provider", diagnosis.parties.provider_name or "not on record")
    if diagnosis.subject:
        yield Fact("person", diagnosis.subject)
    if diagnosis.at and diagnosis.judged.at_from:
        yield Fact("judged at", f"{show_moment(diagnosis.at)}, {MOMENT[diagnosis.judged.at_from]}")


def _to_set(diagnosis: Diagnosis, side: Side | None) -> Document:
    """What must be set, in its order; of one side only where one is named."""
    roots = [finding for finding in roots_of(diagnosis) if side is None or finding.side in (side, Side.BOTH)]
    if not roots:
        return
    yield heading("What to set")
    for finding in roots:
        if len(roots) > 1:
            yield heading(Span(finding.code, "break"), level=3)
        yield from remedy_lines(finding if side is None else finding._replace(proof=None))
        place = usual_place(finding.code, side or finding.side)
        if place:
            yield prose(place, 2, "quiet", first="Usually found: ")


def _stages(diagnosis: Diagnosis) -> Document:
    yield heading("The nine stages")
    yield table(
        ("stage", "result", "what it asks"),
        [
            (
                str(result.stage),
                Span(_STATUS[result.status], result.status),
                f"Whether {STAGE_SENTENCES[Stage(result.stage)]}",
            )
            for result in diagnosis.stages
        ],
    )


def _evidence(diagnosis: Diagnosis, side: Side | None) -> Document:
    """What shows it: breaks in full, their effects and the risks on a line; of one side only where one is named."""

    def concerns(finding: Finding) -> bool:
        return side is None or finding.side in (side, Side.BOTH)

    roots = [finding for finding in roots_of(diagnosis) if concerns(finding)]
    rest = [
        finding
        for finding in diagnosis.findings
        if finding not in roots_of(diagnosis)
        and finding.severity is not Severity.NOTE
        and concerns(finding)
        and (side is None or (not finding.breaks and finding.stage is not Stage.ADMITTED))
    ]
    if roots:
        yield heading("What shows it")
        for finding in roots:
            yield from finding_lines(finding if side is None else finding._replace(evidence=(), overrules=()))
    if rest:
        yield heading("Effects and risks" if roots else "Risks")
        for finding in rest:
            yield one_line(finding)


def _how_judged(diagnosis: Diagnosis, made: Made, *, files: bool = True) -> Document:
    yield heading("How it was judged")
    yield Fact("program", f"Trace Lens {__version__}", column=14)
    yield Fact("on", show_moment(made.now.replace(microsecond=0)), column=14)
    yield Fact("outcome", OUTCOME[diagnosis.outcome].lower(), column=14)
    if files:
        for name, digest in made.files:
            yield Fact("file", f"{name}, SHA-256 {digest}", column=14)
