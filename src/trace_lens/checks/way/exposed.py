"""Delivered, hop by hop: what anyone on the way, or whoever has the capture, can read."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from urllib.parse import parse_qsl

from trace_lens.attempts.cookies import is_loopback
from trace_lens.attempts.journeys import Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.parties import SIDES, at_hop, parties, way_of
from trace_lens.common import limits
from trace_lens.common.findings import Side
from trace_lens.common.kinds import in_a_sentence
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.exchanges import CALL, Exchange
from trace_lens.intake.field_names import PASSWORD_FIELD


@check("insecure-transport", requires=Need.WAY)
def transport(case: Case) -> Answer:
    """Does no message and no cookie travel over http? (Loopback addresses need no https.)"""
    clear = [
        hop for hop in way_of(case).hops if _in_clear(hop.exchange) and (hop.carries or _bears_cookie(hop.exchange))
    ]
    if not clear:
        return
    first = next((hop for hop in clear if hop.carries), clear[0])
    what = " and ".join(f"the {in_a_sentence(kind)}" for kind in first.kinds) or "a cookie"
    others = say(" So do {clear} more hops.", clear=len(clear) - 1) if len(clear) > 1 else ""
    parts = first.exchange.parts
    yield finding(
        "insecure-transport",
        say(
            "{upper}{what} travels to {host} over http, where anyone on the way can read and use it.{others}",
            upper=what[0].upper(),
            what=what[1:],
            host=first.exchange.host,
            others=others,
        ),
        side=SIDES.get(parties(case).side_of(first.exchange), Side.APPLICATION),
        actual=first.exchange.plain_url,
        value_to_set=parts._replace(scheme="https", query="", fragment="").geturl(),
        evidence=[at_hop(case, "over http", hop.exchange.plain_url, hop.exchange) for hop in clear[:4]],
    )


def _in_clear(exchange: Exchange) -> bool:
    return exchange.parts.scheme.lower() == "http" and not is_loopback(exchange.host)


def _bears_cookie(exchange: Exchange) -> bool:
    return bool(exchange.cookies or exchange.set_cookies)


@check("credentials-in-clear", requires=Need.WAY)
def passwords(case: Case) -> Answer:
    """Does no password travel over http, or lie readable in the capture?"""
    found = [(exchange, name) for exchange in _meanwhile(way_of(case)) for name in _passwords_in(exchange)]
    if not found:
        return
    exchange, name = next(((exchange, name) for exchange, name in found if _in_clear(exchange)), found[0])
    clear, in_url = _in_clear(exchange), name.startswith("?")
    name = name.lstrip("?")
    where = say("{host} over http, readable by anyone on the way", host=exchange.host) if clear else exchange.host
    said = "in the address" if in_url else say("in the field {name}", name=name)
    yield finding(
        "credentials-in-clear",
        say("A password goes to {where} ({said}), and it lies readable in this capture: ", where=where, said=said)
        + ("change it, and serve that page over https." if clear else "handle the file as a secret."),
        side=SIDES.get(parties(case).side_of(exchange), Side.USER) if clear else Side.USER,
        remedy="Serve that page over https, and change the password."
        if clear
        else "Change the password: addresses are kept in histories and logs."
        if in_url
        else "Keep this capture to yourself, and share only a copy without the password.",
        actual=exchange.plain_url,
        evidence=[at_hop(case, name, "a password", exchange, "address" if in_url else "request body", secret=True)],
    )


def _meanwhile(way: Way) -> Iterator[Exchange]:
    """The hops, and what their pages called between the first and the last of them, at the same hosts."""
    hosts = {hop.exchange.host for hop in way.hops}
    numbers = {hop.exchange.number for hop in way.hops}
    left = len(numbers)
    for exchange in way.exchanges:
        if exchange.number in numbers:
            left -= 1
            yield exchange
        elif 0 < left < len(numbers) and exchange.kind == CALL and exchange.host in hosts:
            yield exchange


def _passwords_in(exchange: Exchange) -> Iterator[str]:
    for name, value in parse_qsl(exchange.parts.query):
        if value and PASSWORD_FIELD.search(name):
            yield "?" + name
    if not exchange.body or exchange.method == "GET":
        return
    text = exchange.body[: limits.PAGE_BYTES].decode("utf-8", "replace")
    pairs: list[tuple[str, object]] = list(parse_qsl(text)) if "=" in text and text[:1] != "{" else []
    if text[:1] == "{":
        try:
            document = json.loads(text)
        except ValueError:
            document = {}
        pairs = list(document.items()) if isinstance(document, dict) else []
    pairs += [(match[1], match[2]) for match in re.finditer(r'name="([^"]+)"\r?\n\r?\n([^\r\n]+)', text)]
    for name, held in pairs:
        if isinstance(held, str) and held and PASSWORD_FIELD.search(str(name)):
            yield str(name)


CHECKS = (transport, passwords)
