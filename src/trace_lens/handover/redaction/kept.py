"""What a copy keeps: what settings on record hold, the words of the trade; and whose names it never keeps."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Iterator
from functools import cache
from importlib.resources import files
from typing import Any

from trace_lens.common.addresses import host_of
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.people.guests import GUEST_MARKERS

RUN = expression(r"[^\W_]+")
_PARTED = expression(r"[A-Z]+(?![a-z])|[A-Z]?[^\W\d_A-Z]+|[^\W\d_]+|\d+")
_NOT_KEPT = frozenset({"owner", "reason", "accepted"})
"""Settings that hold words about people."""
_NAMES_TOO = frozenset(
    [
        "Mark",
        "Will",
        "Bill",
        "Grace",
        "May",
        "Rose",
        "Page",
        "Dean",
        "Frank",
        "Art",
        "Chase",
        "Grant",
        "Drew",
        "Sue",
        "Pat",
        "Penny",
        "Jack",
        "Rob",
        "Bob",
        "Max",
        "Ray",
        "Guy",
        "Miles",
        "Hope",
        "Faith",
        "Joy",
        "Dawn",
        "Eve",
        "Iris",
        "Ruby",
        "Robin",
        "Martin",
        "Victor",
        "Pierce",
        "Lance",
        "Dale",
        "Glen",
        "Cliff",
        "Case",
        "Field",
        "Stone",
        "King",
        "Young",
        "Long",
        "Short",
        "White",
        "Black",
        "Brown",
        "Green",
        "Gray",
        "Cook",
        "Carter",
        "Mason",
        "Bishop",
        "Marshall",
        "Price",
        "Rich",
        "Banks",
        "Day",
        "Park",
        "Wood",
    ]
)
"""Words of the trade that are names of people, too: kept in small letters only."""
_OF_HOSTS = frozenset(
    [
        "www",
        "www2",
        "login",
        "logon",
        "sso",
        "idp",
        "sp",
        "id",
        "auth",
        "oauth",
        "oauth2",
        "oidc",
        "saml",
        "api",
        "app",
        "apps",
        "web",
        "mail",
        "cdn",
        "static",
        "assets",
        "accounts",
        "account",
        "portal",
        "gateway",
        "proxy",
        "test",
        "dev",
        "stage",
        "staging",
        "prod",
        "int",
        "ext",
        "admin",
        "m",
        "secure",
        "my",
        "sts",
        "adfs",
        "co",
        "com",
        "org",
        "net",
        "ac",
        "gov",
        "edu",
        "home",
        "local",
        "localhost",
        "example",
        "test",
        "invalid",
    ]
)
"""Labels of hosts that tell nothing of whose they are."""


class Kept(NamedTuple):
    """What stays as it is.

    `values` stay whole, `hosts` and `labels` in addresses, `words` (in small letters) anywhere but in names of people.
    `literals` are the words that a rule for names itself holds. `people` are the words of the names of those concerned,
    `joined` those names written without anything between their words, each with these words.
    """

    values: frozenset[str] = frozenset()
    hosts: frozenset[str] = frozenset()
    labels: frozenset[str] = frozenset()
    words: frozenset[str] = frozenset()
    literals: frozenset[str] = frozenset()
    people: frozenset[str] = frozenset()
    joined: dict[str, tuple[str, ...]] = {}  # noqa: RUF012  an empty default that nothing writes to

    def keeps_word(self, run: str) -> bool:
        """Whether a run of letters and digits tells nothing of anybody: a word of the trade, or of the settings."""
        known = run.casefold()
        if known in self.people:
            return False
        if run.isdigit():
            return len(run) <= _SHORT_NUMBER or is_moment(run)
        if known in self.words or len(run) == 1:
            return True
        if known in trade_words():
            return run not in _NAMES_TOO
        if _ALGORITHM.fullmatch(known):
            return True
        parts = _PARTED.findall(run)
        return len(parts) > 1 and all(
            (part.isdigit() and len(part) <= _VERSION)
            or (part.casefold() in trade_words() and part.casefold() not in self.people)
            for part in parts
        )

    def keeps_host(self, host: str) -> bool:
        """Whether a host is one of the settings', or of a standard."""
        known = host.casefold().rstrip(".")
        return known in self.hosts or known in STANDARDS or known == "localhost"

    def keeps_label(self, label: str) -> bool:
        """Whether a label of a host is one of the settings' hosts, or tells nothing."""
        known = label.casefold()
        return (known in self.labels and known not in self.people) or known in _OF_HOSTS


_ALGORITHM = expression(r"(?:sha|rs|ps|es|hs|ed|aes|rsa|a|utf|iso|p|x|tls|md)\d{1,4}(?:kw|gcm|gcmkw|cbc|c|v\d)?")
"""Names of algorithms and encodings that have a number: `sha256`, `utf8`."""
_VERSION = 2
"""So many digits behind words of the trade are a version (`oauth2`), and tell nobody apart."""
_SHORT_NUMBER = 4
"""So many digits tell nobody apart: years, ports, statuses."""
STANDARDS = frozenset({"www.w3.org", "schemas.xmlsoap.org", "docs.oasis-open.org", "schemas.openid.net", "openid.net"})
"""Hosts in the names that standards give to their own things."""


def is_moment(digits: str) -> bool:
    """Whether a number may be a moment, in seconds or milliseconds since 1970, between 2001 and 2065."""
    return (len(digits) == 10 and "10" <= digits[:2] <= "29") or (len(digits) == 13 and "10" <= digits[:2] <= "29")


@cache
def trade_words() -> frozenset[str]:
    """The words of the trade, and those that pages are made of, in small letters."""
    return frozenset((files(__package__) / "words.txt").read_text("utf-8").split())


def kept_of(texts: Iterable[str], patterns: Iterable[str], people: Iterable[str]) -> Kept:
    """What is kept, given the values on record, the patterns of rules for names, and the names of those concerned."""
    values = frozenset(text.strip() for text in texts if text and text.strip())
    hosts = {host for text in values for host in _hosts_in(text)}
    named = [name.strip().casefold() for name in people if name and name.strip()]
    labels = frozenset(part for host in hosts for label in host.split(".") for part in RUN.findall(label))
    literals = frozenset(run.casefold() for text in patterns for run in RUN.findall(re.sub(r"\\.", " ", text)))
    words = {word for name in named for word in RUN.findall(_local(name))}
    words -= labels | literals | GUEST_MARKERS | _OF_HOSTS
    return Kept(
        values=values,
        hosts=frozenset(hosts),
        labels=labels,
        words=frozenset(run.casefold() for text in values for run in RUN.findall(text)),
        literals=literals,
        people=frozenset(word for word in words if len(word) > 1 and (not word.isdigit() or _tells_apart(word))),
        joined={"".join(parts): tuple(parts) for name in named if len(parts := RUN.findall(_local(name))) > 1},
    )


def _tells_apart(digits: str) -> bool:
    """Whether a number in a name is more than a counter or a year."""
    return len(digits) > _COUNTER and not (len(digits) == _SHORT_NUMBER and digits[:2] in ("19", "20"))


_COUNTER = 2


def _local(name: str) -> str:
    """A name without the domain of an address, and without the domain before a login."""
    return name.rpartition("\\")[2].rpartition("@")[0] or name.rpartition("\\")[2]


_DOMAIN = expression(r"(?i)(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")


def _hosts_in(text: str) -> Iterator[str]:
    if "://" in text:
        host = host_of(text).casefold()
        if host and not _is_address(host):
            yield host
    elif _DOMAIN.fullmatch(text.lstrip("@")):
        yield text.lstrip("@").casefold()


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text.strip("[]"))
    except ValueError:
        return False
    return True


def strings_of(data: Any, name: str = "") -> Iterator[str]:
    """Every text in settings or a document, and the names of its members, but what is told about people."""
    if isinstance(data, dict):
        for key, value in data.items():
            if key not in _NOT_KEPT:
                yield str(key)
                yield from strings_of(value, str(key))
    elif isinstance(data, list):
        for value in data:
            yield from strings_of(value, name)
    elif isinstance(data, str):
        yield data


def patterns_of(data: Any) -> Iterator[str]:
    """The expressions and texts in the rules for names, of an application or a provider."""
    if isinstance(data, dict):
        for key, value in data.items():
            if key in ("rewrite", "guest_pattern"):
                yield from strings_of(value)
            else:
                yield from patterns_of(value)
        if isinstance(pattern := data.get("guest_pattern"), str):
            yield pattern
    elif isinstance(data, list):
        for value in data:
            yield from patterns_of(value)
