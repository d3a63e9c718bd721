"""Addresses (RFC 3986): scheme and hosts on record stay, whoever stands before the host goes, the rest by its parts."""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import quote, unquote

from trace_lens.common.addresses import host_of, parts_of
from trace_lens.common.difference import kind
from trace_lens.handover.redaction.kept import RUN, STANDARDS
from trace_lens.handover.redaction.places import PASSWORD
from trace_lens.handover.redaction.rewriting import Rewrites
from trace_lens.handover.redaction.words import Words

_SLIP = 8
_SLIPS = ("whitespace", "percent-encoding", "case", "lookalike", "trailing-slash", "scheme", "port", "edit")
_LONG_SEGMENT = 60
"""Segments of a path that are longer may be base64 of something."""
_OF_STANDARDS = ("urn:oasis:", "urn:ietf:", "urn:mace:", "urn:oid:", "urn:federation:")


class WebAddresses:
    """Rewrites addresses and what stands in their place."""

    def __init__(self, words: Words, rewrites: Rewrites) -> None:
        self._words, self._rewrites = words, rewrites
        self._recorded = _Recorded(words.kept.values)

    def address(self, text: str, name: str, depth: int) -> str | None:
        """An address: its scheme and the settings' hosts stay, whoever stands before the host goes."""
        if text[0] == "/" and text[1:2] != "/" and not re.search(r"\s", text):
            return self.path_and_more(text, depth)
        scheme, colon, rest = text.partition(":")
        if not colon or re.search(r"\s", text) or not re.fullmatch(r"[A-Za-z][A-Za-z0-9+.-]*", scheme):
            return None
        if scheme.casefold() == "urn":
            return self._urn(text, depth)
        if scheme.casefold() == "mailto":
            return f"{scheme}:{self._rewrites.under(rest, 'email', depth + 1)}"
        if scheme.casefold() == "data":
            return f"{scheme}:{self._words.secret(rest, 'data')}"
        if not rest.startswith("//"):
            return None
        if self._nearly_kept(text) or rest[2:].partition("/")[0].casefold() in STANDARDS:
            return text
        base = self._recorded_start(text)
        if base:
            return base + self.path_and_more(text[len(base) :], depth)
        return f"{scheme}://{self._after_scheme(rest[2:], depth)}"

    def _recorded_start(self, text: str) -> str:
        """The longest address on record that it begins with and goes on from: what was added at the end shows."""
        return self._recorded.starting(text)

    def _nearly_kept(self, text: str) -> bool:
        """Whether it is one on record but for a slip: that is no secret, and it is what breaks."""
        if (
            "@" in text
            or "?" in text
            or "#" in text
            or self._words.kept.people & {run.casefold() for run in RUN.findall(text)}
        ):
            return False
        return self._recorded.nearly(text)

    def _after_scheme(self, text: str, depth: int) -> str:
        match = re.match(r"[^/?#]*", text)
        authority = match[0] if match else ""
        rest = text[len(authority) :]
        user, at, host = authority.rpartition("@")
        if at:
            login, colon, password = user.partition(":")
            made = self._words.person(unquote(login)) if login else ""
            user = quote(made, safe="") + colon + (self._words.secret(password, PASSWORD) if password else "")
        port = re.search(r":\d*$", host)
        name = host[: port.start()] if port and not host.endswith("]") else host
        return f"{user}{at}{self._words.host(name)}{host[len(name) :]}{self.path_and_more(rest, depth)}"

    def path_and_more(self, text: str, depth: int) -> str:
        head, hash_sign, fragment = text.partition("#")
        path, mark, query = head.partition("?")
        made = "/".join(self._segment(segment, depth) for segment in path.split("/"))
        made += mark + (self._rewrites.query(query, depth) if query else "")
        if hash_sign:
            made += "#" + (
                self._rewrites.query(fragment, depth) if "=" in fragment else self._segment_path(fragment, depth)
            )
        return made

    def _segment_path(self, text: str, depth: int) -> str:
        return "/".join(self._segment(segment, depth) for segment in text.split("/"))

    def _segment(self, segment: str, depth: int) -> str:
        name, *parameters = segment.split(";")
        made = [self._rewrites.encoded(name, "", depth) if "%" in name else self._of_segment(name, depth)]
        for parameter in parameters:
            key, equals, value = parameter.partition("=")
            made.append(
                f"{key}={self._rewrites.encoded(value, key, depth)}" if equals else self._of_segment(parameter, depth)
            )
        return ";".join(made)

    def _of_segment(self, text: str, depth: int) -> str:
        if not text:
            return text
        token = self._rewrites.token(text, "", depth) or (
            self._rewrites.in_base64(text, "", depth) if len(text) > _LONG_SEGMENT else None
        )
        return token if token is not None else self._rewrites.words(text, depth)

    def _urn(self, text: str, depth: int) -> str:
        if text.casefold().startswith(_OF_STANDARDS):
            return text
        return "urn:" + self._rewrites.words(text[4:], depth)


class _Recorded:
    """The addresses on record, by host, so that the few which another may be a slip of are found at once."""

    def __init__(self, values: frozenset[str]) -> None:
        self._by_host: dict[str, list[str]] = {}
        for value in values:
            if "://" in value:
                self._by_host.setdefault(host_of(value), []).append(value)
        self._near_hosts = lru_cache(maxsize=1000)(self._hosts_near)

    def starting(self, text: str) -> str:
        """The longest address with a path that another begins with; empty where none is."""
        there = (value for value in self._by_host.get(host_of(text), ()) if text.startswith(value))
        return max((value for value in there if parts_of(value).path.strip("/")), key=len, default="")

    def nearly(self, text: str) -> bool:
        """Whether an address differs from one of them by a slip only."""
        hosts = self._near_hosts(host_of(text))
        return any(
            abs(len(value) - len(text)) <= _SLIP and _mostly_alike(value, text) and kind(value, text) in _SLIPS
            for host in hosts
            for value in self._by_host[host]
        )

    def _hosts_near(self, host: str) -> tuple[str, ...]:
        return tuple(
            own
            for own in self._by_host
            if own == host
            or (abs(len(own) - len(host)) <= _SLIP and _mostly_alike(own, host) and kind(own, host) in _SLIPS)
        )


def _mostly_alike(item: str, other: str) -> bool:
    """Whether two texts begin and end alike but for a few characters: what a slip leaves; capitals aside."""
    left, right = item.casefold(), other.casefold()
    shortest = min(len(left), len(right))
    start = _shared(left, right)
    end = _shared(left[::-1], right[::-1])
    return start + end >= shortest - _SLIP or "%" in item + other


def _shared(item: str, other: str) -> int:
    """How many characters two texts begin with alike."""
    return next((at for at, (a, b) in enumerate(zip(item, other, strict=False)) if a != b), min(len(item), len(other)))
