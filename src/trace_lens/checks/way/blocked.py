"""Delivered, as far as browsers themselves refuse a step: what policies of pages, frames and origins forbid.

No log of any server shows such a refusal. Sources: Content Security Policy Level 3 §6.4, §6.7.2; RFC 7034; Fetch §3.2.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.attempts.journeys import CALLED, Hop, Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.interfaces import bearer_of
from trace_lens.checks.way.parties import PROVIDER, REQUESTS, SIDES, at_hop, parties, return_hop
from trace_lens.checks.way.signs import shown_in
from trace_lens.common.addresses import host_of, origin_of, parts_of, plain, same_address
from trace_lens.common.findings import Finding, Severity, Side
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.browser_words import Trouble
from trace_lens.intake.exchanges import CALL, Exchange, forms_of

_NO_FRAME = "Open the sign-in in a window of its own, or renew without a frame."
"""That a sign-in page bars frames is sound (RFC 7034): it keeps others from laying their own page over it."""


@check("blocked-by-browser", requires=Need.WAY)
def refused_by_browser(case: Case) -> Answer:
    """Did the browser itself refuse to send, or to show, a step?"""
    way: Way | None = case.attempt.way
    if way is None:
        return
    for place, hop in enumerate(way.hops):
        yield from _policies(case, way, place, hop)
        refused = _refused(hop.exchange, _page_of(hop.exchange) or _page_before(way, place))
        if refused and not _is_of_an_interface(case, hop.exchange):
            exchange = hop.exchange
            yield finding(
                "blocked-by-browser",
                refused.words,
                severity=Severity.RISK if _begun_anew(way, hop) else Severity.BREAK,
                side=_side_to_act(case, exchange, refused),
                remedy=refused.remedy,
                actual=exchange.problem,
                value_to_set=refused.value,
                evidence=[at_hop(case, "refused", exchange.problem or "", exchange)],
                compared=False,
            )
            return
    yield from _never_called(case, way)


def _is_of_an_interface(case: Case, exchange: Exchange) -> bool:
    """Whether it is a call of an interface, with a token: it comes after the sign-in, and is told there."""
    return bearer_of(exchange) is not None and parties(case).side_of(exchange) != PROVIDER


def _begun_anew(way: Way, hop: Hop) -> bool:
    """Whether a script's call was sent on to the provider and refused, and the browser then went there by a page.

    That call stopped nothing. One that redeems a code, or asks for data, did, even if the page then starts again.
    """
    if hop.exchange.kind != CALL or not set(hop.kinds) & set(REQUESTS):
        return False
    return any(set(later.kinds) & set(REQUESTS) and later.exchange.kind != CALL for later in way.after(hop))


class _Refusal(NamedTuple):
    """What a browser refused, in words, and what would have to be said: by the page that asked, or by who was asked."""

    words: str
    remedy: str
    value: str | None = None
    of_page: bool = False


def _page_of(exchange: Exchange) -> str | None:
    """The origin of the page that a step was asked for by, as the browser tells it."""
    referer = exchange.request("referer")
    return exchange.request("origin") or (origin_of(referer) if referer else None)


def _side_to_act(case: Case, exchange: Exchange, refused: _Refusal) -> Side:
    """Whose page, or whose answer, it is. A page that is not told is the other side's than the one that was asked."""
    sides = parties(case)
    asked = SIDES.get(sides.side_of(exchange), Side.NETWORK)
    if not refused.of_page:
        return asked
    host = host_of(_page_of(exchange) or "")
    if host in sides.application:
        return Side.APPLICATION
    if host in sides.provider:
        return Side.PROVIDER
    return {Side.PROVIDER: Side.APPLICATION, Side.APPLICATION: Side.PROVIDER}.get(asked, asked)


def _page_before(way: Way, place: int) -> str | None:
    """The origin of the page that was there when a call was made that does not say whose it is (Referrer Policy §3)."""
    if way.hops[place].exchange.kind != CALL:
        return None
    pages = (hop.exchange for hop in reversed(way.hops[:place]) if hop.how != CALLED and not hop.exchange.leads_on)
    return next((page.origin for page in pages), None)


def _refused(exchange: Exchange, page: str | None) -> _Refusal | None:
    """What a browser refused of a step that a page asked for, by its own words; None where it refused nothing."""
    if exchange.parts.scheme.lower() not in ("http", "https"):
        return None
    trouble = exchange.trouble
    apart = page is not None and page != "null" and page != exchange.origin
    if trouble is Trouble.CROSS_ORIGIN or (trouble is Trouble.FAILED and exchange.kind == CALL and apart):
        allowed = exchange.response("access-control-allow-origin")
        said = f"it allows {allowed}" if allowed else "no Access-Control-Allow-Origin allows it"
        return _Refusal(
            f"The browser's cross-origin rules kept the answer of {exchange.host} from the page of "
            f"{page or 'another origin'}: {said} ({exchange.problem}).",
            "Allow the origin of the calling page at this endpoint.",
            f"Access-Control-Allow-Origin: {page}" if page else None,
        )
    if trouble is Trouble.POLICY:
        return _Refusal(
            f"A Content-Security-Policy forbade the request to {exchange.host} ({exchange.problem}).",
            f"Add {exchange.origin} to the Content-Security-Policy of the page that asks for it.",
            of_page=True,
        )
    if trouble is Trouble.MIXED:
        return _Refusal(
            f"The browser holds back what a page of https asks of {exchange.host} over http ({exchange.problem}).",
            "Serve this address over https, and name it so.",
            "https" + exchange.plain_url[4:],
        )
    if trouble is Trouble.FRAME:
        return _Refusal(
            f"{exchange.host} does not let its page be shown in a frame ({exchange.problem}).",
            _NO_FRAME,
            of_page=True,
        )
    return None


def _never_called(case: Case, way: Way) -> Iterator[Finding]:
    """A page that redeems its code by itself, and whose policy forbids the call: then the step never comes."""
    back = return_hop(case)
    endpoint = case.provider.discovery.get("token_endpoint") if case.provider else None
    if back is None or not isinstance(endpoint, str) or not back.exchange.served or shown_in(case):
        return
    page = back.exchange
    policy = page.response("content-security-policy") or ""
    sources = _directive(policy, "connect-src")
    sources = _directive(policy, "default-src") if sources is None else sources
    theirs = origin_of(endpoint)
    calls = [
        exchange
        for exchange in way.exchanges
        if exchange.number > page.number
        and exchange.kind == CALL
        and exchange.origin == theirs
        and _by_page(exchange, page)
    ]
    redeemed = any(same_address(call.plain_url, endpoint) for call in calls)
    if sources is None or not calls or redeemed or _allows(sources, page, endpoint):
        return
    yield finding(
        "blocked-by-browser",
        say(
            "The page of {host} has to redeem its code at {endpoint}, and never did: its "
            "Content-Security-Policy says connect-src {sources}.",
            host=page.host,
            endpoint=endpoint,
            sources=" ".join(sources),
        ),
        side=Side.APPLICATION,
        remedy="Add the provider's origin to connect-src in the Content-Security-Policy of the application's page.",
        expected=theirs,
        actual=" ".join(sources),
        value_to_set="connect-src " + " ".join([*(source for source in sources if source != "'none'"), theirs]),
        evidence=[at_hop(case, "connect-src", " ".join(sources), page, "response header Content-Security-Policy")],
        compared=False,
    )


def _by_page(exchange: Exchange, page: Exchange) -> bool:
    """Whether a script of a page's origin made a call."""
    told = exchange.request("origin") or exchange.request("referer") or ""
    return origin_of(told) == page.origin


def _forbidden_form(case: Case, page: Exchange, action: str, allowed: list[str]) -> Finding:
    other = "the application" if parties(case).side_of(page) == "provider" else "the page that the form goes to"
    return finding(
        "blocked-by-browser",
        say(
            "The page of {host} may not post its form to {action}: its Content-Security-Policy says "
            "form-action {allowed}.",
            host=page.host,
            action=origin_of(action),
            allowed=" ".join(allowed),
        ),
        side=SIDES.get(parties(case).side_of(page), Side.PROVIDER),
        remedy=f"Add the origin of {other} to form-action in the Content-Security-Policy of this page.",
        expected=origin_of(action),
        actual=" ".join(allowed),
        value_to_set=f"form-action {' '.join([*allowed, origin_of(action)])}".replace("'none' ", ""),
        evidence=[at_hop(case, "form-action", " ".join(allowed), page, "response header Content-Security-Policy")],
        compared=False,
    )


def _bars_every_script(policy: str) -> bool:
    """Whether a page's policy lets no script of its own run (Content Security Policy Level 3 §6.1.11)."""
    sources = _directive(policy, "script-src")
    return (_directive(policy, "default-src") if sources is None else sources) == ["'none'"]


def _barred_script(case: Case, page: Exchange, action: str) -> Finding:
    return finding(
        "blocked-by-browser",
        say(
            "The page of {host} is to post its form to {action} by a script, and its own Content-Security-Policy lets "
            "no script run (script-src 'none').",
            host=page.host,
            action=origin_of(action),
        ),
        side=SIDES.get(parties(case).side_of(page), Side.PROVIDER),
        remedy="Allow the script of this page in its own Content-Security-Policy, by a nonce or a hash.",
        actual="'none'",
        evidence=[at_hop(case, "script-src", "'none'", page, "response header Content-Security-Policy")],
        compared=False,
    )


def _downgraded_form(case: Case, page: Exchange, action: str) -> Finding:
    return finding(
        "blocked-by-browser",
        say(
            "The page of {host} posts its form to {action} over http; browsers hold such posts back, "
            "or warn before them.",
            host=page.host,
            action=plain(action),
        ),
        side=Side.PROVIDER,
        remedy="Send the answer to the application's https address, and register that one.",
        actual=plain(action),
        value_to_set="https" + plain(action)[4:],
        evidence=[at_hop(case, "form", plain(action), page, "response body")],
    )


def _policies(case: Case, way: Way, place: int, hop: Hop) -> Iterator[Finding]:
    """A form that the page's own policy forbids, or that https may not post to http, and a page that bars frames."""
    page = hop.exchange
    last_places = case.once("last places", lambda: {plain(hop.exchange.url): at for at, hop in enumerate(way.hops)})
    policy = page.response("content-security-policy") or ""
    allowed = _directive(policy, "form-action")
    last = place == len(way.hops) - 1
    for form in forms_of(page):
        if last_places.get(plain(form.action), -1) > place:
            continue
        if allowed is not None and (form.by_itself or last) and not _allows(allowed, page, form.action):
            yield _forbidden_form(case, page, form.action, allowed)
            return
        if form.by_itself and last and _bars_every_script(policy):
            yield _barred_script(case, page, form.action)
            return
        downgraded = page.parts.scheme == "https" and parts_of(form.action).scheme == "http"
        if form.by_itself and downgraded and last:
            yield _downgraded_form(case, page, form.action)
            return
    barred = (page.response("x-frame-options") or "").lower()
    ancestors = _directive(policy, "frame-ancestors")
    shown = (page.status < 300 or page.served) and page.redirects_to is None
    if page.frame and shown and (barred in ("deny", "sameorigin") or ancestors == ["'none'"]):
        yield finding(
            "blocked-by-browser",
            say(
                "{host} does not let its page be shown in a frame ({value}), and this sign-in came in one.",
                host=page.host,
                value="X-Frame-Options: " + barred if barred else "frame-ancestors",
            ),
            severity=Severity.BREAK if last else Severity.RISK,
            side=Side.APPLICATION,
            remedy=_NO_FRAME,
            actual=barred or "frame-ancestors 'none'",
            evidence=[at_hop(case, "frame", page.plain_url, page)],
        )


def _directive(policy: str, name: str) -> list[str] | None:
    for part in re.split(r"[;,]", policy):
        words = part.split()
        if words and words[0].lower() == name:
            return words[1:] or ["'none'"]
    return None


def _allows(sources: list[str], page: Exchange, target: str) -> bool:
    """Content Security Policy Level 3 §6.7.2.7: schemes, hosts, wildcards, paths, self."""
    parts = parts_of(target)
    host = (parts.hostname or "").lower()
    for source in (source.strip().lower() for source in sources):
        if source == "'self'":
            if origin_of(page.url) == origin_of(target):
                return True
        elif source == "*" or source == f"{parts.scheme}:":
            return True
        elif source[:1] != "'":
            scheme, _, rest = source.rpartition("://")
            authority, slash, path = rest.partition("/")
            name = authority.split(":")[0]
            fits = host.endswith(name[1:]) if name.startswith("*.") else host == name
            fits = fits and (not slash or not path or _path_fits("/" + path, parts.path.lower()))
            if fits and (not scheme or scheme == parts.scheme):
                return True
    return False


def _path_fits(wanted: str, path: str) -> bool:
    """Content Security Policy Level 3 §6.7.2.11: a path that ends in a slash covers all below it."""
    return path.startswith(wanted) if wanted.endswith("/") else path == wanted


CHECKS = (refused_by_browser,)
