"""Delivered, as far as browsers themselves refuse a step: what policies of pages, frames and origins forbid.

No log of any server shows such a refusal. Sources: Content Security Policy Level 3 §6.4, §6.7.2; RFC 7034; Fetch §3.2.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.attempts.journeys import Hop, Way
from trace_lens.checks.asking import WAY, Answer, asks
from trace_lens.checks.case import Case
from trace_lens.checks.way.parties import SIDES, at_hop, parties
from trace_lens.common.findings import Finding, Severity, Side, Stage
from trace_lens.intake.exchanges import Exchange, forms_of, origin_of, parts_of, plain

_STAGE = Stage.DELIVERED


@asks(_STAGE, "blocked-by-browser", needs=WAY)
def refused_by_browser(case: Case) -> Answer:
    """Did the browser itself refuse to send, or to show, a step?"""
    way: Way | None = case.attempt.way
    if way is None:
        return
    for place, hop in enumerate(way.hops):
        yield from _policies(case, way, place, hop)
        problem = hop.exchange.problem
        if problem and hop.exchange.status == 0 and not _is_scheme_of_its_own(hop.exchange):
            cors = "cors" in problem.lower() or (hop.exchange.request("origin") and "blocked" in problem.lower())
            yield case.finding(
                "blocked-by-browser",
                _STAGE,
                f"The browser got no answer from {hop.exchange.host} that it would take ({problem})"
                + (": the cross-origin rules of that side do not allow this page." if cors else "."),
                side=SIDES.get(parties(case).side_of(hop.exchange), Side.NETWORK),
                actual=problem,
                evidence=[at_hop(case, "refused", problem, hop.exchange)],
            )
            return


def _is_scheme_of_its_own(one: Exchange) -> bool:
    """Whether an address is handed over to a desktop program (RFC 8252 §7.1)."""
    return one.parts.scheme.lower() not in ("http", "https")


def _policies(case: Case, way: Way, place: int, hop: Hop) -> Iterator[Finding]:
    """A form that the page's own policy forbids, or that https may not post to http, and a page that bars frames."""
    page = hop.exchange
    went = {plain(other.exchange.url) for other in way.hops[place + 1 :]}
    policy = page.response("content-security-policy") or ""
    allowed = _directive(policy, "form-action")
    for form in forms_of(page):
        if plain(form.action) in went:
            continue
        if allowed is not None and not _allows(allowed, page, form.action):
            yield case.finding(
                "blocked-by-browser",
                _STAGE,
                f"The page of {page.host} may not post its form to {origin_of(form.action)}: its "
                f"Content-Security-Policy says form-action {' '.join(allowed)}.",
                side=SIDES.get(parties(case).side_of(page), Side.PROVIDER),
                expected=origin_of(form.action),
                actual=" ".join(allowed),
                value_to_set=f"form-action {' '.join([*allowed, origin_of(form.action)])}".replace("'none' ", ""),
                evidence=[
                    at_hop(case, "form-action", " ".join(allowed), page, "response header Content-Security-Policy")
                ],
                compared=False,
            )
            return
        if form.by_itself and page.parts.scheme == "https" and parts_of(form.action).scheme == "http" and place == len(way.hops) - 1:  # fmt: skip  # noqa: E501
            yield case.finding(
                "blocked-by-browser",
                _STAGE,
                f"The page of {page.host} posts its form to {plain(form.action)} over http; browsers hold such posts "
                "back, or warn before them.",
                side=Side.PROVIDER,
                actual=plain(form.action),
                value_to_set="https" + plain(form.action)[4:],
                evidence=[at_hop(case, "form", plain(form.action), page, "response body")],
            )
            return
    barred = (page.response("x-frame-options") or "").lower()
    ancestors = _directive(policy, "frame-ancestors")
    shown = page.status < 300 and page.redirects_to is None
    if page.frame and shown and (barred in ("deny", "sameorigin") or ancestors == ["'none'"]):
        yield case.finding(
            "blocked-by-browser",
            _STAGE,
            f"{page.host} does not let its page be shown in a frame "
            f"({'X-Frame-Options: ' + barred if barred else 'frame-ancestors'}), and this sign-in came in one.",
            severity=Severity.RISK,
            side=Side.APPLICATION,
            remedy="Sign in in a window of its own, or renew without a frame.",
            actual=barred or "frame-ancestors 'none'",
            evidence=[at_hop(case, "frame", page.plain_url, page)],
        )


def _directive(policy: str, name: str) -> list[str] | None:
    for one in re.split(r"[;,]", policy):
        words = one.split()
        if words and words[0].lower() == name:
            return words[1:] or ["'none'"]
    return None


def _allows(sources: list[str], page: Exchange, target: str) -> bool:
    """Content Security Policy Level 3 §6.7.2.7, as far as form-action needs it: schemes, hosts, wildcards, self."""
    parts = parts_of(target)
    host = (parts.hostname or "").lower()
    for source in (one.strip().lower() for one in sources):
        if source == "'self'":
            if origin_of(page.url) == origin_of(target):
                return True
        elif source == "*" or source == f"{parts.scheme}:":
            return True
        elif source[:1] != "'":
            scheme, _, rest = source.rpartition("://")
            name = rest.split("/")[0].split(":")[0]
            fits = host.endswith(name[1:]) if name.startswith("*.") else host == name
            if fits and (not scheme or scheme == parts.scheme):
                return True
    return False
