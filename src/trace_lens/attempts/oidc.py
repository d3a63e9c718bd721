"""Messages of OpenID Connect put together into attempts: what one sign-in by it consists of.

Messages belong together where one carries a value of another (state, code, nonce, code verifier and challenge, a token
inside an answer, the hash of an access token, subject and session), or where they follow each other in one capture and
fill what is still missing. A silent request refused and followed by another is a round of the same attempt.
"""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.attempts.journeys import Way
from trace_lens.attempts.oidc_groups import grouped, hold_attempt
from trace_lens.attempts.oidc_messages import CAPTURES, OidcMessage
from trace_lens.common.kinds import TOKEN_KINDS
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.oauth_pieces import OPAQUE
from trace_lens.oidc import errors
from trace_lens.oidc.tokens import Token


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
    def found(self) -> FoundMessage:
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


def assemble_oidc(messages: list[OidcMessage], *, together: bool = False) -> list[OidcAttempt]:
    """The attempts that messages make, in the order of their first message."""
    if not hold_attempt(messages):
        return []
    groups = [messages] if together else grouped(messages)
    attempts = [OidcAttempt(tuple(group)) for group in groups if hold_attempt(group)]
    return list(_with_silent_rounds(attempts))


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
    places = [_comes_back_to(tried) for tried in (attempt, following)]
    return None not in places and places[0] == places[1]


def _comes_back_to(attempt: OidcAttempt) -> str | None:
    """Where its answer came, or was to come."""
    if attempt.answer and attempt.answer.parameters:
        return attempt.answer.parameters.address
    return attempt.request.get("redirect_uri") if attempt.request else None


def _refused_silently(attempt: OidcAttempt) -> bool:
    """Whether it was refused since the user would have had to be asked; only a request that forbids that is (OpenID
    Connect Core §3.1.2.6), so a capture that begins after the request tells it too; consent is lacking otherwise, too.
    """
    code = attempt.answer.get("error") if attempt.answer else None
    meaning = errors.meaning_of(code) if code else None
    asked = attempt.request.get("prompt") == "none" if attempt.request else code != "consent_required"
    return bool(meaning and meaning.silent and asked)
