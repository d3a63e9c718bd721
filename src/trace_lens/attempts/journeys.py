"""How the browser went: what led from one exchange to the next, and which exchanges make up one attempt.

Each step a window or frame took has at most one cause: a redirect, a form that sends itself, a page that jumps by
itself, a form or link that a person used (told by the referrer), or nothing that shows. An attempt's way is what led to
its messages, and what followed the last of them by itself, up to the page that a person then saw.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Container, Iterable, Sequence
from datetime import timedelta
from operator import attrgetter

from trace_lens.attempts.oidc_groups import ALONE
from trace_lens.common.addresses import plain
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import EXCHANGE
from trace_lens.intake.exchanges import PAGE, STATIC, Capture, Exchange, Form, forms_of, jumps_of
from trace_lens.intake.found import FoundMessage

REDIRECT, FORM, JUMP, PERSON, SCRIPT, START, CALLED = "redirect", "form", "jump", "person", "script", "start", "call"
BY_ITSELF = (REDIRECT, FORM, JUMP, SCRIPT)
"""The causes that need nobody's hand."""
_SOON = timedelta(seconds=2)
_WHILE = timedelta(minutes=5)
_LONG = timedelta(hours=1)
_number_of = attrgetter("number")
_NEXT = timedelta(seconds=30)


class Hop(NamedTuple):
    """One step of an attempt: an exchange, how the browser came to it and from which one, and the messages in it."""

    exchange: Exchange
    how: str
    cause: Exchange | None
    carries: tuple[FoundMessage, ...] = ()

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of messages that it carries, each once."""
        return tuple(dict.fromkeys(message.kind for message in self.carries))


class Way(NamedTuple):
    """The hops of one attempt in their order, and the whole capture that they come from.

    `hidden` counts the exchanges beside them, between the first and the last, that are no step of it. `rounds` counts
    how often the same hops came round. `until` is the number of the exchange with which the next sign-in to the same
    application begins: what comes from there on says nothing of this one.
    """

    source: str
    capture: Capture
    hops: tuple[Hop, ...]
    hidden: int = 0
    rounds: int = 1
    until: int | None = None

    @property
    def exchanges(self) -> tuple[Exchange, ...]:
        """All exchanges that may tell of it."""
        return self._before_next(self.capture.exchanges)

    @property
    def telling(self) -> tuple[Exchange, ...]:
        """Those that are no noise, or whose response sets cookies."""
        return self._before_next(self.capture.telling)

    @property
    def setting_cookies(self) -> tuple[Exchange, ...]:
        """Those whose response sets cookies."""
        return self._before_next(self.capture.setting_cookies)

    def _before_next(self, exchanges: tuple[Exchange, ...]) -> tuple[Exchange, ...]:
        if self.until is None:
            return exchanges
        return exchanges[: bisect_left(exchanges, self.until, key=_number_of)]

    def hop_of(self, found: FoundMessage | None) -> Hop | None:
        """The hop that carried a message."""
        number = found.context.get(EXCHANGE) if found else None
        return next((hop for hop in self.hops if str(hop.exchange.number) == number), None)

    def before(self, hop: Hop) -> tuple[Hop, ...]:
        """The hops before one."""
        return self.hops[: self.hops.index(hop)]

    def after(self, hop: Hop) -> tuple[Hop, ...]:
        """The hops after one."""
        return self.hops[self.hops.index(hop) + 1 :]


class Links(NamedTuple):
    """The steps of a capture in order, the cause of each, and the place of each by the number of its exchange."""

    steps: tuple[Exchange, ...]
    causes: tuple[tuple[str, int | None], ...]
    places: dict[int, int]


def carried_by(messages: Iterable[FoundMessage]) -> dict[int, list[FoundMessage]]:
    """The messages that came with an exchange, by its number."""
    carried: dict[int, list[FoundMessage]] = {}
    for message in messages:
        if EXCHANGE in message.context:
            carried.setdefault(int(message.context[EXCHANGE]), []).append(message)
    return carried


def steps_in(capture: Capture, carrying: Container[int]) -> tuple[Exchange, ...]:
    """The steps of a capture: pages, redirects, and the exchanges whose numbers are `carrying` a message."""
    return tuple(exchange for exchange in capture.exchanges if exchange.number in carrying or _is_step(exchange))


def link(capture: Capture, messages: Iterable[FoundMessage]) -> Links:
    """What led to each step of a capture; its steps are pages, redirects, and whatever carries a message."""
    carrying = carried_by(messages)
    steps = steps_in(capture, carrying)
    exits = _Exits()
    causes: list[tuple[str, int | None]] = []
    for position, step in enumerate(steps):
        causes.append(exits.cause_of(step, steps, carries=step.number in carrying))
        exits.add(position, step)
    return Links(steps, tuple(causes), {step.number: position for position, step in enumerate(steps)})


def _is_step(exchange: Exchange) -> bool:
    if exchange.kind == STATIC or exchange.method in ("OPTIONS", "HEAD"):
        return False
    return exchange.kind == PAGE


class _Exits:
    """Where the steps so far lead: by redirect, by a form, by a jump, by their address as a referrer."""

    def __init__(self) -> None:
        self._redirects: dict[str, int] = {}
        self._forms: dict[str, tuple[int, bool]] = {}
        self._jumps: dict[str, int] = {}
        self._pages: dict[str, int] = {}
        self._led: dict[str, tuple[list[str], list[Form]]] = {}

    def add(self, position: int, exchange: Exchange) -> None:
        target = exchange.redirects_to
        if target:
            self._redirects[_bare(target)] = position
            return
        if exchange.kind != PAGE:
            return
        here = plain(exchange.url)
        jumps, forms = jumps_of(exchange), forms_of(exchange)
        if exchange.answer is None and exchange.served:  # it was left: it leads where it led before
            jumps, forms = self._led.get(here, (jumps, forms))
        for jump in jumps:
            self._jumps[_bare(jump)] = position
        for form in forms:
            self._forms[_bare(form.action)] = (position, form.by_itself)
        self._led[here] = jumps, forms
        self._pages[here] = position
        self._pages[exchange.origin + "/"] = position

    def cause_of(self, exchange: Exchange, steps: Sequence[Exchange], *, carries: bool) -> tuple[str, int | None]:
        """How the browser came to an exchange, and from which step; `carries` says that a message came with it.

        A post that brings a message sooner than a person clicks was made by its page, also where that page is lost.
        """
        if exchange.kind != PAGE:
            return CALLED, self._referrer(exchange)
        at = self._redirects.pop(_bare(exchange.url), None)
        if at is not None and not _later_than(steps[at], exchange, _NEXT):
            return REDIRECT, at
        held = self._forms.get(_bare(exchange.url)) or self._forms.get(plain(exchange.url))
        referrer = self._referrer(exchange)
        if held and referrer is not None and held[0] < referrer and steps[referrer].answer is None:
            held = None  # a later page, whose text was left out, may have a form to the same address
        if held and exchange.method == "POST" and not (held[1] and _later_than(steps[held[0]], exchange, _NEXT)):
            return (FORM if held[1] else PERSON), held[0]
        jumped = self._jumps.get(_bare(exchange.url))
        if jumped is not None and not _later_than(steps[jumped], exchange, _NEXT):
            return JUMP, jumped
        if referrer is None:
            return START, None
        if exchange.method == "POST" and carries and _at_once(steps[referrer], exchange):
            return FORM, referrer
        return (
            SCRIPT
            if exchange.by_script or (exchange.method == "GET" and _at_once(steps[referrer], exchange))
            else PERSON
        ), referrer

    def _referrer(self, exchange: Exchange) -> int | None:
        for told in (exchange.request("referer"), exchange.caused_by, exchange.request("origin")):
            if told and told not in ("null", "about:blank"):
                found = self._pages.get(plain(told), self._pages.get(plain(told) + "/"))
                if found is not None:
                    return found
        return None


def _bare(url: str) -> str:
    return url.partition("#")[0]


def _later_than(page: Exchange, exchange: Exchange, wait: timedelta) -> bool:
    """Whether a step came so long after another's answer that the browser did not go on by itself."""
    if page.at is None or exchange.at is None or page.seconds is None:
        return False  # how long the answer took is not told
    return exchange.at - page.at - timedelta(seconds=page.seconds) > wait


def _at_once(page: Exchange, exchange: Exchange) -> bool:
    """Whether a step followed a page sooner than a person clicks."""
    if page.at is None or exchange.at is None:
        return False
    return timedelta(0) <= exchange.at - page.at - timedelta(seconds=page.seconds or 0) <= _SOON


def ways(
    source: str,
    capture: Capture,
    attempts: Sequence[Sequence[FoundMessage]],
    messages: Sequence[FoundMessage],
    links: Links,
) -> list[tuple[Way, int | None]]:
    """The way of each attempt, given by its messages, in their order in the capture.

    Beside each stands the place of the attempt whose end led to it by itself: then it is another round of that one.
    """
    carried = carried_by(messages)
    owner: dict[int, int] = {}
    own = [_places_of(found, links) for found in attempts]
    for number, places in enumerate(own):
        for place in places:
            owner.setdefault(place, number)
    for number, found in enumerate(attempts):  # a document is fetched by whoever wants it: it leads to nobody
        own[number] = _places_of([message for message in found if message.kind not in ALONE], links) or own[number]
    order = sorted(range(len(own)), key=lambda number: own[number][0] if own[number] else len(links.steps))
    leads: dict[int, int | None] = {}
    for number in order:
        leads[number] = _climb(links, own[number], number, owner, by_itself=True)
    for number in order:
        leads[number] = _climb(links, own[number], number, owner) if leads[number] is None else leads[number]
        _between(links, own[number], number, owner)
        _follow(links, own[number], number, owner, waiting=_unanswered(attempts[number]))
    made = []
    for number in range(len(own)):
        mine = [place for place in sorted(owner) if owner[place] == number]
        hops = tuple(_hop(links, place, carried) for place in mine)
        made.append((Way(source, capture, hops, _hidden(capture, hops)), leads.get(number)))
    return made


def _places_of(found: Sequence[FoundMessage], links: Links) -> list[int]:
    """The places of the steps that messages came with."""
    return sorted({links.places[int(message.context[EXCHANGE])] for message in found if EXCHANGE in message.context})


def begun_between(links: Links, asked: FoundMessage, came: FoundMessage) -> int | None:
    """The number of the exchange with which the way to an answer began, where that did not come from a request: then
    the answer is to another one, which the capture lacks. None where it did, or where no capture shows it.
    """
    if EXCHANGE not in asked.context or EXCHANGE not in came.context:
        return None
    request, here = (links.places[int(message.context[EXCHANGE])] for message in (asked, came))
    first = here
    while first > request and (cause := links.causes[first][1]) is not None and cause >= request:
        if _later_than(links.steps[cause], links.steps[first], _WHILE):
            break
        first = cause
    return None if first <= request else links.steps[first].number


def whole_way(source: str, capture: Capture, messages: Sequence[FoundMessage]) -> Way:
    """All steps of a capture as one way."""
    links = link(capture, messages)
    carried = carried_by(messages)
    hops = tuple(_hop(links, place, carried) for place in range(len(links.steps)))
    return Way(source, capture, hops, _hidden(capture, hops))


def _hop(links: Links, place: int, carried: dict[int, list[FoundMessage]]) -> Hop:
    how, cause = links.causes[place]
    exchange = links.steps[place]
    return Hop(exchange, how, None if cause is None else links.steps[cause], tuple(carried.get(exchange.number, ())))


def _hidden(capture: Capture, hops: tuple[Hop, ...]) -> int:
    """How many exchanges lie between the first and the last hop without being one."""
    if not hops:
        return 0
    places = {capture.places[hop.exchange.number] for hop in hops}
    return max(places) - min(places) + 1 - len(places)


def _climb(
    links: Links, places: list[int], number: int, owner: dict[int, int], *, by_itself: bool = False
) -> int | None:
    """Take in what led to the messages; the attempt, if any, whose own step led there by itself.

    With `by_itself` only redirects and forms that sent themselves are gone back over: what surely belongs together,
    before anything is taken that two attempts may claim.
    """
    before: int | None = None
    for first, place in enumerate(places):
        here: int | None = place
        for _ in range(len(links.steps)):
            if here is None:
                break
            how, cause = links.causes[here]
            if cause is None or (by_itself and how not in (REDIRECT, FORM)):
                break
            holder = owner.get(cause)
            if holder not in (None, number):
                if first == 0 and how in BY_ITSELF:
                    before = holder
                break
            if how == PERSON and first == 0 and _elsewhere(links, cause, places):
                owner.setdefault(cause, number)
                break
            owner.setdefault(cause, number)
            here = cause
    return before


def _elsewhere(links: Links, place: int, places: list[int]) -> bool:
    """Whether a page from which a person went on lies at a host that has no other part in the attempt."""
    hosts = {links.steps[place].host for place in places}
    return links.steps[place].host not in hosts


def _between(links: Links, places: list[int], number: int, owner: dict[int, int]) -> None:
    """Take in the pages between the first and the last message that nobody else has, at the hosts of the attempt."""
    if not places:
        return
    hosts = {links.steps[place].host for place, holder in owner.items() if holder == number}
    for place in range(places[0], places[-1]):
        if place not in owner and links.steps[place].kind == PAGE and links.steps[place].host in hosts:
            owner[place] = number


def _unanswered(found: Sequence[FoundMessage]) -> bool:
    """Whether an attempt holds requests only: then what a person did at the provider belongs to it too."""
    return all(message.kind in ("saml-authn-request", "authorization-request", *ALONE) for message in found)


def _follow(links: Links, places: list[int], number: int, owner: dict[int, int], *, waiting: bool) -> None:
    """Take in what followed the last message by itself, up to the page that was then seen; while an answer is still
    `waiting` to come, what a person did too.
    """
    if not places:
        return
    end = places[-1]
    mine = {end}
    landed = False
    for place in range(end + 1, len(links.steps)):
        how, cause = links.causes[place]
        if place in owner:
            if owner[place] == number:
                mine.add(place)
                continue
            if cause in mine or not landed:
                break
            continue
        step = links.steps[place]
        led = cause in mine and (
            how in BY_ITSELF or (waiting and not _later_than(links.steps[cause or 0], step, _LONG))
        )
        unexplained = not landed and cause is None and _soon_after(links, end, place)
        if led or unexplained:
            owner[place] = number
            mine.add(place)
            landed = landed or (step.redirects_to is None and not waiting)


def _soon_after(links: Links, end: int, place: int) -> bool:
    """Whether a step without a cause may be what came of the last message: the next page of a host of the way."""
    last, step = links.steps[end], links.steps[place]
    if last.redirects_to is None and last.status:
        return False
    if step.host != last.host:
        return False
    return last.at is None or step.at is None or step.at - last.at <= _NEXT
