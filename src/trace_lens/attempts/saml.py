"""Messages into attempts: what one try at signing in, or out, consists of.

Messages belong together where one names the other (InResponseTo, a session index), or where they stand in one capture
and are of the same parties. What is plainly a message but damaged is an attempt too, so that the damage is told as the
step that broke. A silent request refused and followed by another is a round of the same attempt.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from lxml import etree

from trace_lens.attempts.journeys import Way
from trace_lens.attempts.saml_messages import ANSWER_KINDS, SIGN_OUT_KINDS, SamlMessage, assertions_of
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.found import FoundMessage
from trace_lens.saml.artifact import Artifact
from trace_lens.saml.messages import Assertion, AuthnRequest, LogoutRequest, LogoutResponse, Response
from trace_lens.saml.names import STATUS_PREFIX
from trace_lens.saml.parsing import XMLDamaged


class SamlAttempt(NamedTuple):
    """One try at signing in, or a sign-out by itself.

    `answer` is what is judged; it is None where only a request, only an artifact or only a sign-out was captured.
    `earlier` are rounds before it: refused only because they had to be silent, or those of a loop. `way` is how the
    browser went, where the capture shows it; `given_up` are the ways of tries before it that were left at a sign-in
    page.
    """

    first: SamlMessage
    answer: SamlMessage | None = None
    request: SamlMessage | None = None
    artifact: SamlMessage | None = None
    sign_out: tuple[SamlMessage, ...] = ()
    earlier: tuple[SamlMessage, ...] = ()
    way: Way | None = None
    given_up: tuple[Way, ...] = ()

    @property
    def kind(self) -> str:
        """What there is to judge: `answer`, `request`, `artifact`, `sign-out`; `way` where no message was captured."""
        if self.answer:
            return "answer"
        if not (self.request or self.artifact or self.sign_out):
            return "way"
        return "request" if self.request else "artifact" if self.artifact else "sign-out"

    @property
    def main(self) -> SamlMessage:
        """The message that the attempt is named after: the answer, else the first that was captured."""
        return self.answer or self.first

    @property
    def source(self) -> str:
        """The source of the main message."""
        return self.main.source

    @property
    def found(self) -> FoundMessage:
        """The main message as it was found."""
        return self.main.found

    @property
    def place(self) -> Location:
        """Where in its source the main message stood, to put before a place within it."""
        return self.main.place

    @property
    def root(self) -> etree._Element | None:
        """The root of the document that the main message stands in."""
        return self.main.root

    @property
    def damage(self) -> XMLDamaged | None:
        """Why the main message cannot be parsed, where it cannot."""
        return self.main.damage

    @property
    def response(self) -> Response | None:
        """The SAML response."""
        content = self.answer.content if self.answer else None
        return content if isinstance(content, Response) else None

    @property
    def assertion(self) -> Assertion | None:
        """The assertion, where it was captured without a SAML response."""
        content = self.answer.content if self.answer else None
        return content if isinstance(content, Assertion) else None

    @property
    def authn_request(self) -> AuthnRequest | None:
        """What was asked."""
        content = self.request.content if self.request else None
        return content if isinstance(content, AuthnRequest) else None

    @property
    def relay_state(self) -> str | None:
        """The relay state that came beside the answer."""
        return self.found.context.get("RelayState")

    @property
    def open_ends(self) -> tuple[set[str], set[str]]:
        """What it looks for in other sources, and what it has for them: requests by ID, sessions by index."""
        wanted: set[str] = set()
        offered: set[str] = set()
        if self.answer:
            if self.request is None:
                wanted |= self.answer.answers
            offered |= {f"session {session}" for session in self.answer.sessions}
        elif self.request and self.request.id:
            offered.add(self.request.id)
        for message in self.sign_out:
            if self.answer is None:
                wanted |= {f"session {index}" for index in message.sessions}
            if isinstance(message.content, LogoutRequest) and message.id:
                offered.add(message.id)
            wanted |= message.answers
        return wanted, offered


def assemble_saml(messages: list[SamlMessage], *, together: bool = False) -> list[SamlAttempt]:
    """The attempts that messages make, in the order of their first message.

    With `together` the messages of all sources count as of one capture.
    """
    answers = [message for message in messages if message.found.kind in ANSWER_KINDS]
    if len(messages) == 1 and answers:
        return [SamlAttempt(messages[0], messages[0])]
    requests = [message for message in messages if message.found.kind == "saml-authn-request"]
    outs = [message for message in messages if message.found.kind in SIGN_OUT_KINDS]
    artifacts = [message for message in messages if isinstance(message.content, Artifact)]
    order = {id(message): position for position, message in enumerate(messages)}

    answered = list(_answered(answers, requests, order, together))
    taken = {id(attempt.request) for attempt in answered}
    answered += [SamlAttempt(request, request=request) for request in requests if id(request) not in taken]
    answered.sort(key=lambda item: min(order[id(member)] for member in _members(item)))
    attempts = _rounds(answered, together)
    attempts = _with_artifacts(attempts, artifacts, together)
    attempts = list(_with_sign_outs(attempts, outs, order, together))
    firsts = [(min(order[id(member)] for member in _members(attempt)), attempt) for attempt in attempts]
    return [attempt._replace(first=messages[first]) for first, attempt in sorted(firsts, key=lambda pair: pair[0])]


def _members(attempt: SamlAttempt) -> Iterator[SamlMessage]:
    for message in (attempt.answer, attempt.request, attempt.artifact, *attempt.sign_out):
        if message:
            yield message


def _answered(
    answers: list[SamlMessage], requests: list[SamlMessage], order: dict[int, int], together: bool
) -> Iterator[SamlAttempt]:
    """Each answer with its request: the one that it names, else the one before it in its capture."""
    free = list(requests)
    named: dict[int, SamlMessage] = {}
    for answer in answers:
        fitting = [request for request in requests if request.id and request.id in answer.answers]
        unused = [message for message in fitting if message in free and order[id(message)] < order[id(answer)]]
        request = next(iter(unused or fitting), None)
        if request:
            named[id(answer)] = request
            if request in free:
                free.remove(request)
    for answer in answers:
        request = named.get(id(answer))
        if request is None:
            fitting = [
                message
                for message in free
                if (together or message.source == answer.source)
                and order[id(message)] < order[id(answer)]
                and _same_parties(message, answer)
            ]
            request = fitting[-1] if fitting else None
            if request:
                free.remove(request)
        yield SamlAttempt(answer, answer, request)


def _same_parties(request: SamlMessage, answer: SamlMessage) -> bool:
    """Whether an answer may be to a request: made out to who asked, or saying nothing of whom it is for."""
    asked = request.content
    if not isinstance(asked, AuthnRequest):
        return answer.damage is not None
    if isinstance(answer.content, Assertion) and answer.found.kind == "ws-federation-response":
        return False
    audiences = {
        audience.value
        for assertion in assertions_of(answer.content)
        if assertion.conditions
        for audience in assertion.conditions.audiences
    }
    destination = answer.content.destination if isinstance(answer.content, Response) else None
    known = audiences | ({destination.value} if destination else set())
    if not known:
        return True
    return bool(
        known & {value.value for value in (asked.issuer.text if asked.issuer else None, asked.acs_url) if value}
    )


def _rounds(attempts: list[SamlAttempt], together: bool) -> list[SamlAttempt]:
    """Attempts with their silent rounds taken in: refused since the user would have had to be asked, then repeated."""
    made: list[SamlAttempt] = []
    for attempt in attempts:
        before = made[-1] if made else None
        if before and _refused_silently(before) and (together or before.source == attempt.source):
            asked = before.authn_request.issuer if before.authn_request else None
            if asked and asked.value in _asking(attempt):
                made.pop()
                silent = [message for message in (before.request, before.answer) if message]
                attempt = attempt._replace(earlier=(*before.earlier, *silent))
        made.append(attempt)
    return made


def _asking(attempt: SamlAttempt) -> set[str]:
    """Who asked: as the request says, else whom the answer is for."""
    request = attempt.authn_request
    if request:
        return {request.issuer.value} if request.issuer else set()
    assertions = assertions_of(attempt.answer.content) if attempt.answer else ()
    return {
        audience.value
        for assertion in assertions
        if assertion.conditions
        for audience in assertion.conditions.audiences
    }


def _refused_silently(attempt: SamlAttempt) -> bool:
    status = attempt.response.status if attempt.response else None
    asked = attempt.authn_request
    refused = status is not None and any(code.value == STATUS_PREFIX + "NoPassive" for code in status.codes)
    return refused and asked is not None and asked.is_passive


def _with_artifacts(attempts: list[SamlAttempt], artifacts: list[SamlMessage], together: bool) -> list[SamlAttempt]:
    """Each artifact with the answer that it was exchanged for, else by itself."""
    made = list(attempts)
    for artifact in artifacts:
        for position, attempt in enumerate(made):
            near = together or attempt.source == artifact.source
            if (
                near
                and attempt.answer
                and attempt.artifact is None
                and attempt.answer.found.kind == "saml-artifact-response"
            ):
                made[position] = attempt._replace(artifact=artifact)
                break
        else:
            made.append(SamlAttempt(artifact, artifact=artifact))
    return made


def _with_sign_outs(
    attempts: list[SamlAttempt], outs: list[SamlMessage], order: dict[int, int], together: bool
) -> Iterator[SamlAttempt]:
    """Sign-out messages with the sign-in whose session they end, else with the latest before them in their capture,
    else as attempts of their own.
    """
    owned: dict[int, list[SamlMessage]] = {}
    alone: list[list[SamlMessage]] = []
    for exchange in _exchanges(outs):
        signed_in = [attempt for attempt in attempts if attempt.answer]
        ended = {session for message in exchange for session in message.sessions}
        by_session = [attempt for attempt in signed_in if attempt.answer and ended & attempt.answer.sessions]
        first = order[id(exchange[0])]
        before = [attempt for attempt in by_session if attempt.answer and order[id(attempt.answer)] < first]
        beside = [
            attempt
            for attempt in signed_in
            if attempt.answer
            and (order[id(attempt.answer)] < first if attempt.source == exchange[0].source else together)
        ]
        owner = next((held[-1] for held in (before, by_session, beside) if held), None)
        if owner is None:
            alone.append(exchange)
        else:
            owned.setdefault(id(owner), []).extend(exchange)
    for attempt in attempts:
        yield attempt._replace(sign_out=tuple(owned.get(id(attempt), ())))
    for exchange in alone:
        yield SamlAttempt(exchange[0], sign_out=tuple(exchange))


def _exchanges(outs: Iterable[SamlMessage]) -> list[list[SamlMessage]]:
    """Logout requests, each with the response that names it; a response to none of them by itself."""
    found = list(outs)
    requests = {message.id: [message] for message in found if isinstance(message.content, LogoutRequest) and message.id}
    loose: list[list[SamlMessage]] = []
    for message in found:
        if isinstance(message.content, LogoutResponse):
            asked = next((requests[name] for name in message.answers if name in requests), None)
            if asked:
                asked.append(message)
                continue
        elif message.id in requests:
            continue
        loose.append([message])
    return [*requests.values(), *loose]
