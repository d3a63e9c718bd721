"""Reachable, as far as a capture holds the browser's own words: the name, the port, the certificate of a host.

No server's log shows these: the request never came. An abort is no trouble of the network: a person closed the page, or
clicked again.
"""

from __future__ import annotations

from trace_lens.attempts.journeys import Hop, Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.parties import at_hop
from trace_lens.common.addresses import same_address
from trace_lens.common.findings import Severity
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.browser_words import Trouble

_TOLD: dict[Trouble, tuple[str, str]] = {
    Trouble.NAME: ("name-not-resolved", "The browser found no address for {host}"),
    Trouble.REFUSED: ("port-unreachable", "The connection to {host} was refused or cut"),
    Trouble.TIMEOUT: ("port-unreachable", "{host} did not answer in time"),
    Trouble.TLS: ("tls-refused", "No secure connection to {host} came about"),
    Trouble.TLS_UNTRUSTED: ("tls-untrusted", "The browser does not trust the certificate of {host}"),
    Trouble.TLS_NAME: ("tls-name-mismatch", "The certificate of {host} is for other names"),
    Trouble.TLS_DATE: ("tls-certificate-expired", "The certificate of {host} has ended or has not begun"),
}


def in_trouble(hop: Hop) -> bool:
    """Whether a hop got no answer for a reason of the network."""
    return hop.exchange.status <= 0 and hop.exchange.trouble in _TOLD


@check(
    "name-not-resolved",
    "port-unreachable",
    "tls-refused",
    "tls-untrusted",
    "tls-name-mismatch",
    "tls-certificate-expired",
    requires=Need.WAY,
)
def reached(case: Case) -> Answer:
    """Did every address of the way answer?"""
    way: Way | None = case.attempt.way
    for hop in way.hops if way else ():
        if not in_trouble(hop):
            continue
        code, words = _TOLD[hop.exchange.trouble or Trouble.OTHER]
        again = any(
            later.exchange.status > 0 and same_address(later.exchange.plain_url, hop.exchange.plain_url)
            for later in (way.after(hop) if way else ())
        )
        yield finding(
            code,
            say("{format} ({problem}).", format=words.format(host=hop.exchange.host), problem=hop.exchange.problem)
            + (" It answered when it was tried again." if again else ""),
            severity=Severity.RISK if again else None,
            actual=hop.exchange.origin,
            evidence=[at_hop(case, "the browser's word", hop.exchange.problem or "", hop.exchange)],
        )
        return


CHECKS = (reached,)
