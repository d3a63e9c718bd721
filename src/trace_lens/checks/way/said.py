"""What the pages of both sides say of why it failed, matched with the findings that speak of the same.

A page's words are evidence, read where the exchange is a failure by its status, its headings or its place in the way;
never the words of a page that works. A sign-in form is no refusal. What a page names and no finding tells is raised
from here, with the words quoted. The words themselves are data, in `page_words.toml`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.attempts.journeys import CALLED, Hop, Way
from trace_lens.checks.case import Case
from trace_lens.checks.way.clocks import apart_beyond_skew
from trace_lens.checks.way.failure_words import ADVICE, SENTENCE, WRONG, error_in_json, failure_in_address
from trace_lens.checks.way.page_signs import ASKS, LOUD, STATUS
from trace_lens.checks.way.parties import APPLICATION, OTHER, PROVIDER, REQUESTS, at_hop, parties, return_hop
from trace_lens.checks.way.signs import outcome_of, shown_in
from trace_lens.checks.way.topics import OF_USER, Topic, topics_of
from trace_lens.common import catalogue, limits
from trace_lens.common.expressions import expression
from trace_lens.common.findings import INFERRED, PROVEN, Evidence, Finding, Severity, Side
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Quotation, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import PAGE, Exchange, forms_of
from trace_lens.intake.pages import PageText, page_of
from trace_lens.oidc.errors import TO_REDEEM

_SHORT_WORDS = 3
_ADVISES = expression(
    r"\W*(?:(?:and|or|then|you can|you may) )?(?:try|please|check|ask|contact|use|choose|select|click|go|return|read"
    r"|see|(?:sign|log)[- ]?(?:in|out)|make sure|ensure)\b"
    r"(?!.{0,120}(?:\b(?:expired|failed|denied|locked|disabled|invalid|too|because|since|was|were)\b|:\s))",
    re.IGNORECASE,
)
"""How a sentence begins that tells the reader what to do."""
_SAYS_WRONG = expression(
    r"\b(?:no|not|nobody|none|never|cannot|could|un\w+|in(?:valid|correct|active)|wrong|bad|mismatch\w*|missing|lacks?|differs?"
    r"|different|another|instead|expected|error|exception|fail\w*|denied|refused|rejected|expired|ended|locked|disabled"
    r"|deactivated|suspended|blocked|closed|pending|waiting|awaiting|too|must|traceback)\b|n.t\b|Error\b|Exception\b",
    re.IGNORECASE,
)
"""What a sentence says that speaks of a fault."""


class Said(NamedTuple):
    """A page that says why: whose it is, the hop, what it says, and the topics in it."""

    side: str
    hop: Hop
    quote: str
    topics: tuple[Topic, ...]
    text: str = ""

    @property
    def raises(self) -> str | None:
        """What its words are by themselves; of an application's page where a sentence says that something is wrong."""
        for topic in self.topics:
            match = topic.pattern.search(self.text)
            stated = self.side == PROVIDER or topic.states
            if topic.raises and match and (stated or _SAYS_WRONG.search(_around(match))):
                return topic.raises
        return None

    @property
    def codes(self) -> set[str]:
        """The findings that speak of what it names."""
        return {code for topic in self.topics for code in topic.codes}


def said(case: Case) -> tuple[Said, ...]:
    """What the pages of the way say of a failure, the application's first."""
    return case.once("said by pages", lambda: tuple(_said(case)))


def refusal_page(case: Case) -> Said | None:
    """The provider's page that says no, where the way ends at one."""
    return next((statement for statement in said(case) if statement.side == PROVIDER), None)


def _said(case: Case) -> Iterator[Said]:
    way: Way | None = case.attempt.way
    if way is None or shown_in(case):
        return
    for sign in outcome_of(case).against:
        called = Hop(sign.exchange, CALLED, None) if sign.name == STATUS else None
        hop = next((hop for hop in way.hops if hop.exchange is sign.exchange), called)
        if hop and sign.name in (STATUS, LOUD, ASKS) and parties(case).side_of(hop.exchange) != PROVIDER:
            shown = _shown_by(hop.exchange)
            told = failure_in_address(hop.exchange)
            if sign.name == ASKS and not told:
                continue  # a sign-in form is no refusal
            if told and (sign.name == ASKS or any(topic.pattern.search(told) for topic in topics_of(APPLICATION))):
                shown = shown._replace(title="", headings=(), text=told, blocks=(told,))
            if shown.text or shown.title:
                yield _read(APPLICATION, hop, shown)
                break
    last = _last_at_provider(case, way)
    if last is not None:
        shown = page_of(last.exchange)
        if last.exchange.status >= 400 or _refuses(case, shown):
            found = _read(PROVIDER, last, shown)
            if shown.text or shown.title:
                yield found


_NO = expression(
    r"\b(?:not|no|nobody|un\w+|invalid|must|missing|required|requires|should|needs?|has|nicht|ikke|inte|geen|pas|non"
    r"|inconnue?|ukjent|onbekende|desconocid[oa]|ungültige\w?|blocked|prevented)\b|n.t\b",
    re.IGNORECASE,
)
"""What makes a topic a refusal by itself: "is not assigned", "must be signed"; a redirect URI may be named anywhere."""


_UNFIT = expression(
    r"\b(?:does not|doesn.t|did not|do not|don.t) match|mismatch"
    r"|\bnot (?:registered|allowed|found|valid|configured|match\w*)\b|\bunregistered|\binvalid|\bunknown\b",
    re.IGNORECASE,
)
"""What a sentence says of a value that it names and that does not fit."""


def _refuses(case: Case, shown: PageText) -> bool:
    """Whether a page of the provider that is no error by its status says no.

    Consent pages, portals and consoles name redirect URIs and assignments too. Where no message ties the page to a
    sign-in, its headings have to say it.
    """
    loud = " ".join(shown.said_loudly)
    alone = case.attempt.kind == "way"
    text = loud if alone else f"{loud} {shown.text}"
    named = [match for topic in topics_of(PROVIDER) if (match := topic.pattern.search(text))]
    if any(_NO.search(match[0]) for match in named):
        return True
    return (
        bool(named) and not alone and bool(WRONG.search(loud) or any(_UNFIT.search(_around(match)) for match in named))
    )


def _around(match: re.Match[str]) -> str:
    """The sentence that holds a match."""
    ends = (". ", "! ", "? ")
    begin = max(match.string.rfind(end, 0, match.start()) for end in ends)
    after = [place for end in ends if (place := match.string.find(end, match.end())) >= 0]
    return match.string[begin + 1 : min(after, default=len(match.string))]


def _last_at_provider(case: Case, way: Way) -> Hop | None:
    """The provider's page at which the way ends: no sign-in form, nothing that goes on by itself."""
    if return_hop(case) is not None:
        return None
    pages = [hop for hop in way.hops if hop.how != CALLED and hop.exchange.kind == PAGE]
    if case.attempt.kind == "way":  # no message tells which pages are this sign-in's
        pages = [hop for hop in pages if parties(case).side_of(hop.exchange) != OTHER]
    if not pages or parties(case).side_of(pages[-1].exchange) != PROVIDER:
        return None
    last = pages[-1]
    forms = forms_of(last.exchange)
    if last.exchange.redirects_to or last.exchange.status <= 0:
        return None
    return None if any(form.asks_password or form.by_itself for form in forms) else last


def _shown_by(exchange: Exchange) -> PageText:
    """What a page shows, or the JSON of an error says in words."""
    words = error_in_json(exchange) if exchange.status >= 400 else None
    return PageText(text=words, blocks=(words,)) if words else page_of(exchange)


def _read(side: str, hop: Hop, shown: PageText) -> Said:
    """What a page says: of an application's what it states, without its links, its questions and its advice."""
    if side == APPLICATION:
        shown = shown._replace(text=_stated(shown))
    text = " ".join(dict.fromkeys((*shown.said_loudly, shown.text)))
    topics = tuple(topic for topic in topics_of(side) if topic.pattern.search(text))
    return Said(side, hop, Quotation(_quote(shown, topics)), topics, text)


def _stated(shown: PageText) -> str:
    blocks = list(shown.blocks)
    for link in shown.links:
        if len(link.words) > _SHORT_WORDS:
            blocks = [block.replace(link.words, " ") for block in blocks]
    said = (sentence.strip() for block in blocks for sentence in SENTENCE.split(block))
    return " ".join(sentence for sentence in said if not ADVICE.search(sentence) and not _ADVISES.match(sentence))


def _quote(shown: PageText, topics: tuple[Topic, ...]) -> str:
    """The sentence that names the first topic, else how the page begins."""
    text = shown.text
    for words in (shown.title, *shown.headings):
        text = text.removeprefix(words).lstrip(" .:-") or text
    for topic in topics:
        match = topic.pattern.search(text)
        if match:
            begin = max(text.rfind(end, 0, match.start()) + 2 for end in (". ", "! ", "? ", "  "))
            begin = max(begin if begin > 1 else 0, match.start() - limits.PAGE_WORDS)
            return _short(text[begin:])
    return _short(text or shown.title)


def _short(text: str) -> str:
    text = text.strip().rstrip(".")
    if len(text) <= limits.PAGE_WORDS:
        return text
    return text[: limits.PAGE_WORDS].rsplit(" ", 1)[0] + " …"


def quoted(case: Case, statement: Said) -> list[Evidence]:
    """A page's words as evidence."""
    return [at_hop(case, f"page of the {statement.side}", statement.quote, statement.hop.exchange, "response body")]


SYMPTOMS = ("no-answer", "redirect-loop", "http-error", "session-not-started", "application-refused")
"""Breaks that only tell how it ended: whatever names a reason says more."""


def with_pages(case: Case, findings: list[Finding]) -> list[Finding]:
    """The findings, with what the pages say: beside the finding that it speaks of, else as one of its own.

    An inferred break that the page names is proven by it. Where settings are supposed the pages say nothing: they speak
    of the attempt as it was.
    """
    made = list(findings)
    for page in said(case) if case.as_it_was is None else ():
        spoken = [finding for finding in made if finding.breaks and finding.code in page.codes]
        proven = [finding for finding in spoken if finding.certainty != INFERRED] or spoken
        if proven:
            first = proven[0]
            told = say(
                "{detail} The {side}'s page says: {quoted}",
                detail=first.detail,
                side=page.side,
                quoted=quoted_at_end(page.quote),
            )
            made[made.index(first)] = first._replace(
                detail=told, certainty=PROVEN, evidence=(*first.evidence, *quoted(case, page))
            )
        elif (clock := _clock_named(case, page, made)) is not None:
            told = say(
                "{detail} The application's page says: {quoted}", detail=clock.detail, quoted=quoted_at_end(page.quote)
            )
            made[made.index(clock)] = clock._replace(
                severity=Severity.BREAK, detail=told, evidence=(*clock.evidence, *quoted(case, page))
            )
        else:
            made += _raised(case, page, made)
    return made


def _clock_named(case: Case, page: Said, findings: list[Finding]) -> Finding | None:
    """The clocks that are apart, where the application's page says that a time did not hold, and nothing in the capture
    shows which: then they are why.
    """
    if page.side != APPLICATION or "clock-offset" not in page.codes or _reasons(findings):
        return None
    if "session-cookie-lost" in page.codes:
        return None  # it may speak of its own session, not of a message
    clock = next((finding for finding in findings if finding.code == "clock-offset"), None)
    return clock if clock and clock.side is not Side.USER and apart_beyond_skew(case) else None


def _reasons(findings: list[Finding]) -> list[Finding]:
    """The proven breaks that say why."""
    return [
        finding
        for finding in findings
        if finding.breaks and finding.code not in SYMPTOMS and finding.certainty != INFERRED
    ]


def _raised(case: Case, page: Said, findings: list[Finding]) -> list[Finding]:
    name = _name_of(case, page.side)
    words = say("The page of {name} says: {quoted}", name=name, quoted=quoted_at_end(page.quote))
    raised = page.raises
    raised = _RETURNS.get((case.protocol, raised or ""), raised)
    if page.side == APPLICATION:
        return [_from_page(case, raised, page, words)] if raised and not _reasons(findings) else []
    if case.refused:
        return []
    if raised:
        return [_from_page(case, raised, page, words)]
    rejects = any("request-rejected" in topic.codes for topic in page.topics)
    of_person = any("provider-refused" in topic.codes for topic in page.topics) or bool(OF_USER.search(page.quote))
    by_status = page.hop.exchange.status == 400 and set(page.hop.kinds) & set(REQUESTS)
    if not of_person and (rejects or by_status):
        return [_from_page(case, "request-rejected", page, words)._replace(certainty=INFERRED)]
    return []


def _name_of(case: Case, side: str) -> str:
    held = case.app if side == APPLICATION else case.provider
    return held.name if held else say("the {side}", side=side)


def _from_page(case: Case, code: str, page: Said, words: str) -> Finding:
    """The finding that a page names, in its usual stage."""
    entry = catalogue.entry(code)
    value = None
    if code == "redirect-uri-mismatch" and case.protocol == "oidc":
        value = case.asked("redirect_uri")  # type: ignore[attr-defined]
    side = _SIDES.get(code, entry.side) if page.side == PROVIDER else entry.side
    told = (error for error in TO_REDEEM if error in page.quote) if code == "token-request-refused" else ()
    return finding(
        code,
        words,
        side=side,
        remedy=next((TO_REDEEM[error] for error in told), None),
        actual=value,
        value_to_set=value,
        evidence=quoted(case, page),
        compared=False,
    )


_RETURNS = {
    ("saml", "redirect-uri-mismatch"): "acs-not-registered",
    ("oidc", "acs-not-registered"): "redirect-uri-mismatch",
}
"""The address of return by its name in each protocol: pages use the words of either."""
_SIDES = {
    "redirect-uri-mismatch": Side.PROVIDER,
    "acs-not-registered": Side.PROVIDER,
    "not-assigned": Side.PROVIDER,
    "request-unsigned": Side.APPLICATION,
}
