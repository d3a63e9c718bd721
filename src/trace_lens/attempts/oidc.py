"""Messages of OpenID Connect put together into attempts: what one sign-in by it consists of.

Messages belong together where one carries a value of another (state, code, nonce, code verifier and challenge, a token
inside an answer, the hash of an access token, subject and session), or where they follow each other in one capture and
fill what is still missing. A silent request refused and followed by another is a round of the same attempt.
"""

from __future__ import annotations

from bisect import insort
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any, NamedTuple

from trace_lens.attempts.journeys import Way
from trace_lens.common.guarding import Faults
from trace_lens.common.kinds import KINDS, PARAMETER_KINDS, TOKEN_KINDS
from trace_lens.intake.carried import BEARER
from trace_lens.intake.found import Found
from trace_lens.intake.oauth import NAMED, OPAQUE, parameters_of
from trace_lens.intake.peeling import Peeled
from trace_lens.oidc import errors
from trace_lens.oidc.jose import JoseDamaged, Jwe, read_jwe, read_jws
from trace_lens.oidc.parameters import Parameters
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.oidc.tokens import NoClaims, Token, code_challenge, half_hashes, read_token

CAPTURES = ("har", "header-dump")
"""The kinds of what is no message but a capture of the way."""


class OidcMessage(NamedTuple):
    """One message of a source. `damage` (a code and the reason) is set where it cannot be read.

    `content` is a Token, a Jwe, Parameters, or the members of a document; `within` the message that it stands in.
    """

    source: str
    found: Found
    content: Token | Jwe | Parameters | dict[str, Any] | None = None
    damage: tuple[str, str] | None = None
    within: OidcMessage | None = None

    @property
    def kind(self) -> str:
        """The kind of message."""
        return self.found.kind

    @property
    def place(self) -> str:
        """Where in the source it stands."""
        return self.found.where or "the whole"

    @property
    def named(self) -> str:
        """The parameter or member that it stood in, where that says what it should be: `id_token`, `access_token`."""
        return self.found.context.get(NAMED, "")

    @property
    def parameters(self) -> Parameters | None:
        """Its parameters, where it is made of such."""
        return self.content if isinstance(self.content, Parameters) else None

    @property
    def token(self) -> Token | None:
        """The token that it is."""
        return self.content if isinstance(self.content, Token) else None

    @property
    def document(self) -> dict[str, Any]:
        """Its members, where it is a JSON document."""
        return self.content if isinstance(self.content, dict) else {}

    def get(self, name: str) -> str | None:
        """A parameter or member as text."""
        if isinstance(self.content, Parameters):
            return self.content.get(name)
        value = self.document.get(name) if isinstance(self.content, dict) else None
        if isinstance(self.content, Token):
            value = self.content.claims.get(name)
        return str(value) if isinstance(value, str | int | float) and not isinstance(value, bool) else None

    @property
    def keys(self) -> set[str]:
        """The values by which it surely belongs to other messages: what one try at signing in makes, and no other.

        A session id, a subject, an address are none: they span applications and tries. State and nonce are asked for
        apart (`weak_keys`), since an application may use one for ever.
        """
        found = {f"{name} {value}" for name in ("code", "request_uri", "device_code") if (value := self.get(name))}
        verifier, challenge, code = self.get("code_verifier"), self.get("code_challenge"), self.get("code")
        if verifier:
            found.add(f"challenge {code_challenge(verifier)}")
        if challenge:
            found.add(f"challenge {challenge}")
        for name in ("access_token", "id_token", "refresh_token"):
            if value := self.get(name):
                found.add(f"token {value}")
        for value in (self.get("access_token"), code):
            found |= {f"hash {digest}" for digest in half_hashes(value)} if value else set()
        if self.token:
            found.add(f"token {self.token.jws.text}")
            found |= {f"hash {value}" for name in ("at_hash", "c_hash") if (value := self.token.text(name))}
        bearer = self.found.context.get(BEARER)
        return found | ({f"token {bearer}"} if bearer else set())

    @property
    def weak_keys(self) -> set[str]:
        """State and nonce: they join messages unless they are seen with two codes."""
        return {f"{name} {value}" for name in ("state", "nonce") if (value := self.get(name))}

    @property
    def session(self) -> str | None:
        """The session at the provider (`sid`), by which only sign-outs look for their sign-in."""
        return self.token.text("sid") if self.token else self.get("sid")

    @property
    def signs_out(self) -> bool:
        """Whether it ends a session."""
        return self.kind in ("logout-token", "logout-request")


class OidcAttempt(NamedTuple):
    """One try at signing in by OpenID Connect, or a sign-out by itself. Every part may be lacking.

    `earlier` are the rounds before: refused silently, or those of a loop. `way` is how the browser went, where the
    capture shows it; `given_up` are the ways of tries before it that were left at a sign-in page.
    """

    messages: tuple[OidcMessage, ...]
    earlier: tuple[OidcMessage, ...] = ()
    way: Way | None = None
    given_up: tuple[Way, ...] = ()

    def of(self, *kinds: str) -> list[OidcMessage]:
        """Its messages of these kinds, in order."""
        return [message for message in self.messages if message.kind in kinds]

    @property
    def first(self) -> OidcMessage:
        """The first message."""
        return self.messages[0]

    @property
    def source(self) -> str:
        """The source of the message that it is named after: the ID token, else the first."""
        return self.main.source

    @property
    def main(self) -> OidcMessage:
        """The message that it is named after: what should be the ID token, else an answer, else the first."""
        token = self.id_token
        answers = self.of("token-response", "authorization-response")
        return token or (answers[-1] if answers else self.first)

    @property
    def found(self) -> Found:
        """The main message as it was found."""
        return self.main.found

    @property
    def kind(self) -> str:
        """What there is to judge: `answer`, `request`, `sign-out`; `way` where no message was captured."""
        if self.first.kind in CAPTURES:
            return "way"
        if self.id_token or self.of(
            "authorization-response", "token-response", "userinfo", "access-token", "jwe", "jwt"
        ):
            return "answer"
        return "request" if self.of("authorization-request", "token-request") else "sign-out"

    @property
    def request(self) -> OidcMessage | None:
        """The authorization request: of several, the one whose state came back, else the last."""
        found = self.of("authorization-request")
        readable = [message for message in found if message.parameters] or found
        came = self.answer.get("state") if self.answer else None
        answered = [message for message in readable if came is not None and message.get("state") == came]
        return next(iter(reversed(answered or readable)), None)

    @property
    def request_object(self) -> Token | None:
        """The signed request object, where one was captured."""
        return next((message.token for message in self.of("authorization-request") if message.token), None)

    @property
    def answer(self) -> OidcMessage | None:
        """The authorization response; of several, the last."""
        found = self.of("authorization-response")
        return found[-1] if found else None

    @property
    def code_requests(self) -> list[OidcMessage]:
        """The token requests that redeem a code."""
        return [message for message in self.of("token-request") if message.get("grant_type") != "refresh_token"]

    @property
    def renewals(self) -> list[tuple[OidcMessage, OidcMessage | None]]:
        """The requests that renew, each with the token response after it."""
        found: list[tuple[OidcMessage, OidcMessage | None]] = []
        for position, message in enumerate(self.messages):
            if message.kind == "token-request" and message.get("grant_type") == "refresh_token":
                after = (message for message in self.messages[position + 1 :] if message.kind == "token-response")
                found.append((message, next(after, None)))
        return found

    @property
    def token_response(self) -> OidcMessage | None:
        """The answer to the code: the first token response that is not to a renewal."""
        renewing = [id(answer) for _, answer in self.renewals if answer]
        return next((message for message in self.of("token-response") if id(message) not in renewing), None)

    @property
    def id_token(self) -> OidcMessage | None:
        """What stands in the place of the ID token: what is named so, else a token of that kind, else any token."""
        of_kind = [
            message for message in self.messages if message.kind in (*TOKEN_KINDS, "jwe") or message.named == "id_token"
        ]
        candidates = [
            message
            for message in of_kind
            if (message.kind != "logout-token" or message.named == "id_token") and OPAQUE not in message.found.context
        ]
        named = [candidate for candidate in candidates if candidate.named == "id_token"]
        alone = [candidate for candidate in candidates if not candidate.named]
        proper = [
            candidate for candidate in candidates if candidate.kind == "id-token" and candidate.named != "id_token_hint"
        ]
        for found in (named, proper, alone):
            if found:
                return found[0]
        return None

    @property
    def access_token(self) -> OidcMessage | None:
        """The access token, where it is one that can be read."""
        id_token = self.id_token
        found = [
            message for message in self.messages if message.named == "access_token" or message.kind == "access-token"
        ]
        return next((message for message in found if message is not id_token), None)

    @property
    def access_token_text(self) -> str | None:
        """The access token as it came, readable or opaque."""
        for message in (self.token_response, self.answer):
            value = message.get("access_token") if message else None
            if value:
                return value
        token = self.access_token
        return token.token.jws.text if token and token.token else None

    @property
    def access_token_texts(self) -> set[str]:
        """Every access token that was issued to it, those of renewals too."""
        renewed = {value for _, after in self.renewals if after and (value := after.get("access_token"))}
        return renewed | ({self.access_token_text} if self.access_token_text else set())

    @property
    def userinfo(self) -> OidcMessage | None:
        """What the userinfo endpoint said."""
        return next(iter(self.of("userinfo")), None)

    @property
    def sign_outs(self) -> list[OidcMessage]:
        """Logout tokens and logout requests."""
        return self.of("logout-token", "logout-request")

    @property
    def open_ends(self) -> tuple[set[str], set[str]]:
        """The values by which messages of other sources may belong to it: it looks for what it offers."""
        keys = {key for message in self.messages for key in (*message.keys, *message.weak_keys)}
        sessions = {f"session {message.session}" for message in self.messages if message.session}
        if all(message.signs_out for message in self.messages):
            return keys | sessions, keys
        return keys, keys | sessions


def read_oidc(source: str, peeled: Peeled, faults: Faults) -> list[OidcMessage]:
    """The messages of a source by OpenID Connect, each linked to the one that it stands in; those that make the program
    fail are told to `faults`.
    """
    made: dict[int, OidcMessage] = {}
    for position, found in enumerate(peeled.found):
        if found.kind not in KINDS:
            continue
        message = faults.attempt(source, f"reading {found.where or 'it'}", partial(_read, source, found))
        if message is not None:
            within = made.get(found.within) if found.within is not None else None
            made[position] = message._replace(within=within)
    return list(made.values())


def _read(source: str, found: Found) -> OidcMessage:
    try:
        if found.kind in PARAMETER_KINDS and found.data[:3] != b"eyJ":
            return OidcMessage(source, found, parameters_of(found))
        if OPAQUE in found.context:
            return OidcMessage(source, found, {})
        if found.kind == "jwe":
            return OidcMessage(source, found, read_jwe(found.data.decode("utf-8", "replace")))
        if found.kind in TOKEN_KINDS or found.data[:3] == b"eyJ":
            return OidcMessage(source, found, read_token(read_jws(found.data.decode("utf-8", "replace"))))
        document = read_json(found.data).value
        return OidcMessage(source, found, document if isinstance(document, dict) else {})
    except (JoseDamaged, JsonDamaged) as error:
        code = "capture-truncated" if error.truncated else "malformed-message"
        return OidcMessage(source, found, damage=(code, error.reason))
    except NoClaims as error:
        return OidcMessage(source, found, damage=("malformed-message", str(error)))


_ALONE = ("discovery-document", "key-set", "jwk", "client-registration", "introspection")
"""Documents that make no attempt by themselves, but belong to one in the same capture."""


def hold_attempt(messages: Iterable[OidcMessage]) -> bool:
    """Whether messages make at least one attempt."""
    return any(message.kind not in _ALONE for message in messages)


def assemble_oidc(messages: list[OidcMessage], *, together: bool = False) -> list[OidcAttempt]:
    """The attempts that messages make, in the order of their first message."""
    if not hold_attempt(messages):
        return []
    groups = [messages] if together else _grouped(messages)
    attempts = [OidcAttempt(tuple(group)) for group in groups if hold_attempt(group)]
    return list(_with_silent_rounds(attempts))


def _grouped(messages: list[OidcMessage]) -> list[list[OidcMessage]]:
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
        home = max((place for place in self._candidates(sort)), default=None)
        if home is None:
            home = len(self.merged)
            self.merged.append([])
            self._sorts.append(sort)
        self.merged[home] += group
        self._sorts[home] = self._sort(self.merged[home]) if len(self.merged[home]) > len(group) else sort
        self._file(home)

    def _sort(self, group: list[int]) -> _Sort:
        members = [self._messages[place] for place in group]
        clients = frozenset(client for message in members if (client := _client(message)))
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
    if more <= {*_ALONE, "userinfo", "logout-token", "logout-request"} or have <= set(_ALONE):
        return True
    if "authorization-request" in more:
        return False
    once = {"authorization-request", "authorization-response", "id-token"}
    return False if have & more & once else None


def _client(message: OidcMessage) -> str | None:
    if message.token:
        return message.token.text("azp") or (message.token.audience[0] if len(message.token.audience) == 1 else None)
    return message.get("client_id")


def _with_silent_rounds(attempts: list[OidcAttempt]) -> Iterator[OidcAttempt]:
    waiting: list[OidcMessage] = []
    for position, attempt in enumerate(attempts):
        following = attempts[position + 1] if position + 1 < len(attempts) else None
        if _refused_silently(attempt) and following and _same_client(attempt, following):
            waiting += attempt.messages
            continue
        yield attempt._replace(earlier=tuple(waiting))
        waiting = []


def _same_client(attempt: OidcAttempt, following: OidcAttempt) -> bool:
    """Whether what follows in the same capture is of the same client: by its request, else by where its answer came."""
    if following.source != attempt.source or _refused_silently(following):
        return False
    asked, next_asked = attempt.request, following.request
    if asked and next_asked:
        return asked.get("client_id") == next_asked.get("client_id")
    places = [
        tried.answer.parameters.address for tried in (attempt, following) if tried.answer and tried.answer.parameters
    ]
    return len(places) == 2 and places[0] == places[1]


def _refused_silently(attempt: OidcAttempt) -> bool:
    code = attempt.answer.get("error") if attempt.answer else None
    meaning = errors.meaning_of(code) if code else None
    asked = attempt.request.get("prompt") if attempt.request else None
    return bool(meaning and meaning.silent and asked == "none")
