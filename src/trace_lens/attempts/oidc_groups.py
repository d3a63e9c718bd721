"""Which messages of OpenID Connect make up one try: by what they share, then by what completes the try before."""

from __future__ import annotations

from bisect import insort
from collections.abc import Callable, Iterable, Iterator

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.common.addresses import plain
from trace_lens.common.tuples import NamedTuple

ALONE = ("discovery-document", "key-set", "jwk", "client-registration", "introspection")
"""Documents that make no attempt by themselves, but belong to one in the same capture."""


def hold_attempt(messages: Iterable[OidcMessage]) -> bool:
    """Whether messages make at least one attempt."""
    return any(message.kind not in ALONE for message in messages)


def grouped(messages: list[OidcMessage]) -> list[list[OidcMessage]]:
    """Messages by what they share; then what shares nothing with any joins the attempt before it, or the next."""
    parent = list(range(len(messages)))

    def root(number: int) -> int:
        while parent[number] != number:
            parent[number] = parent[parent[number]]
            number = parent[number]
        return number

    holders: dict[str, int] = {}
    places = {id(message.found): place for place, message in reversed(list(enumerate(messages)))}
    for position, other_message in enumerate(messages):
        for key in other_message.keys:
            parent[root(position)] = root(holders.setdefault(key, position))
        if other_message.within is not None:
            parent[root(position)] = root(places[id(other_message.within.found)])
    for name in ("state ", "nonce "):
        _join_by(name, messages, parent, root)
    _find_sessions(messages, parent, root)
    groups: dict[int, list[int]] = {}
    for position in range(len(messages)):
        groups.setdefault(root(position), []).append(position)
    homes = _Homes(messages)
    for group in sorted(groups.values()):
        homes.take(group)
    return [[messages[place] for place in sorted(group)] for group in homes.merged]


class _Sort(NamedTuple):
    """What decides whether two groups go together: their source, kinds of messages, and clients."""

    source: str
    kinds: frozenset[str]
    clients: frozenset[str]


_ANY, _NONE = "any client", "no client"


class _Homes:
    """Groups without a link to each other, each put with the latest one before it that it goes with.

    The groups are kept by their source and kinds, and among those by client, so that each new one is held against a
    handful of others, however many there are.
    """

    def __init__(self, messages: list[OidcMessage]) -> None:
        self.merged: list[list[int]] = []
        self._messages = messages
        self._sorts: list[_Sort] = []
        self._by_kinds: dict[tuple[str, frozenset[str]], dict[tuple[str, str], list[int]]] = {}

    def take(self, group: list[int]) -> None:
        """Put a group, whose messages come after the first of each before it, where it belongs."""
        sort = self._sort(group)
        home = max((place for place in self._candidates(sort) if not self._contradicted(place, group)), default=None)
        if home is None:
            home = len(self.merged)
            self.merged.append([])
            self._sorts.append(sort)
        self.merged[home] += group
        self._sorts[home] = self._sort(self.merged[home]) if len(self.merged[home]) > len(group) else sort
        self._file(home)

    def _contradicted(self, home: int, group: list[int]) -> bool:
        return answers_another(self._of(self.merged[home]), self._of(group))

    def _of(self, group: list[int]) -> Iterator[OidcMessage]:
        return (self._messages[place] for place in group)

    def _sort(self, group: list[int]) -> _Sort:
        members = [self._messages[place] for place in group]
        clients = frozenset(client for message in members if (client := client_of(message)))
        return _Sort(members[0].source, frozenset(message.kind for message in members), clients)

    def _file(self, home: int) -> None:
        source, kinds, clients = self._sorts[home]
        shelf = self._by_kinds.setdefault((source, kinds), {})
        for key in (("", _ANY), *((("client", client) for client in clients) if clients else (("", _NONE),))):
            places = shelf.setdefault(key, [])
            if not places or places[-1] < home:
                places.append(home)
            elif home not in places[-2:]:
                insort(places, home)

    def _moved(self, home: int, kinds: frozenset[str], key: tuple[str, str]) -> bool:
        """Whether a group has become of another sort since it was put here."""
        sort = self._sorts[home]
        return sort.kinds != kinds or (key == ("", _NONE) and bool(sort.clients))

    def _candidates(self, group: _Sort) -> Iterator[int]:
        """Of each sort that the group may go with, the latest."""
        for (source, kinds), shelf in self._by_kinds.items():
            if source != group.source:
                continue
            told = _goes_with(kinds, group.kinds)
            if told is None:
                shared = [("client", client) for client in group.clients]
                keys = [("", _NONE), *shared] if shared else [("", _ANY)]
            elif told:
                keys = [("", _ANY)]
            else:
                continue
            for key in keys:
                places = shelf.get(key, [])
                while places and self._moved(places[-1], kinds, key):
                    places.pop()
                if places:
                    yield places[-1]


def _join_by(name: str, messages: list[OidcMessage], parent: list[int], root: Callable[[int], int]) -> None:
    """Join what shares a state or nonce, unless that came with two codes: then it tells no try from another."""
    bearing: dict[str, list[int]] = {}
    codes: dict[int, set[str]] = {}
    for position, message in enumerate(messages):
        for key in message.weak_keys:
            if key.startswith(name):
                bearing.setdefault(key, []).append(position)
        if code := message.get("code"):
            codes.setdefault(root(position), set()).add(code)
    for places in bearing.values():
        seen = {code for place in places for code in codes.get(root(place), ())}
        if len(seen) > 1:
            continue
        for place in places[1:]:
            parent[root(place)] = root(places[0])


def _find_sessions(messages: list[OidcMessage], parent: list[int], root: Callable[[int], int]) -> None:
    """Join each sign-out with the latest sign-in before it whose session it ends."""
    latest: dict[str, int] = {}
    for position, message in enumerate(messages):
        session = message.session
        if session is None:
            continue
        if not message.signs_out:
            latest[session] = position
        elif session in latest:
            parent[root(position)] = root(latest[session])


def _goes_with(have: frozenset[str], more: frozenset[str]) -> bool | None:
    """Whether a later group of some kinds, without a link, fills what another of the same source lacks: None says that
    it does unless their clients differ.
    """
    if more <= {*ALONE, "userinfo", "logout-token", "logout-request"} or have <= set(ALONE):
        return True
    if "authorization-request" in more:
        return False
    once = {"authorization-request", "authorization-response", "id-token"}
    return False if have & more & once else None


def answers_another(before: Iterable[OidcMessage], after: Iterable[OidcMessage]) -> bool:
    """Whether an answer came to another address than the request before it named, and with another state: one of both
    may be the fault that is looked for.
    """
    asked = next((message for message in before if message.kind == "authorization-request"), None)
    came = next((message for message in after if message.kind == "authorization-response"), None)
    if not asked or not came or not came.parameters:
        return False
    to, at = asked.get("redirect_uri"), came.parameters.address
    states = asked.get("state"), came.get("state")
    return bool(to and at and plain(to) != plain(at) and all(states) and states[0] != states[1])


def keys_of(messages: Iterable[OidcMessage]) -> set[str]:
    """All by which messages may be of one try."""
    return {key for message in messages for key in (*message.keys, *message.weak_keys)}


def client_of(message: OidcMessage) -> str | None:
    if message.token:
        return message.token.text("azp") or (message.token.audience[0] if len(message.token.audience) == 1 else None)
    return message.get("client_id")
