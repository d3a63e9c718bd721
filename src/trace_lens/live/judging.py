"""What an answer says, held against what should be there: documents, keys, endpoints, clocks, and a real request."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime

from trace_lens.checks.way.topics import topics_of
from trace_lens.common import limits
from trace_lens.common.addresses import host_of, origin_of, parts_of, plain
from trace_lens.common.findings import Finding, Severity, Side
from trace_lens.common.moments import show_duration
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Quotation, say
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.fleet.documents import KEY_SET, METADATA, NoDocument, OnRecord, read_document
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.pages import page_of
from trace_lens.live.recording import Passed, as_har
from trace_lens.live.steps import FAILED, OK, RISK, SKIPPED, Outcome
from trace_lens.live.transport import Answer, Transport, Unreachable, proxy_for
from trace_lens.oidc.jwk import read_key_set, thumbprint
from trace_lens.oidc.strict_json import read_json
from trace_lens.saml.metadata import find_entity
from trace_lens.saml.names import IDP_ROLE
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.sources import SourceFile

CALLBACK, TOKEN, USERINFO, SIGN_OUT, PAGE = "callback", "token", "userinfo", "sign-out", "page"
_HEALTHY = {
    CALLBACK: (400, 401, 403, 405, 411, 415, 422),
    TOKEN: (400, 401, 403, 404, 405, 411, 415),
    USERINFO: (400, 401, 403, 405),
    SIGN_OUT: (400, 401, 403, 405),
    PAGE: (401, 403),
}
"""Statuses with which an endpoint answers a request without a message, besides those below 400."""
_UNTOLD = (500, 501)
"""What a redirect URI or ACS URL may answer where nothing came for it, although it takes messages."""
_SAMPLES = 3
_BETWEEN_SAMPLES = 0.37
"""Seconds, not a part of a whole one: the samples fall at several places within a second."""
_TURNS = 8
_WELL_KNOWN = "/.well-known/openid-configuration"


def sentence(text: str) -> str:
    """A text with a capital at its beginning, unless it begins with an address."""
    return text if text.startswith("http") else text[:1].upper() + text[1:]


def failed(error: Unreachable) -> Outcome:
    """A step that failed because an address could not be asked."""
    words = say("{because}.", because=sentence(error.because))
    return Outcome(FAILED, words, (), finding(error.code, words))


def document(url: str, kind: str, provider: Provider, transport: Transport) -> Outcome:
    """Metadata, a discovery document or a key set: had, read, and held against its address and the record."""
    try:
        answer = transport.fetch(url)
    except Unreachable as error:
        return failed(error)
    evidence = _seen(answer)
    if answer.status != 200:
        words = say("{url} answers with status {status}.", url=answer.url, status=str(answer.status))
        return Outcome(FAILED, words, evidence, finding("unexpected-answer", words))
    try:
        read_document(OnRecord(url, kind, provider=provider), answer.data)
    except NoDocument as error:
        words = say("{url} {because}.", url=url, because=str(error))
        return Outcome(FAILED, words, evidence, finding("unexpected-answer", words))
    if kind == METADATA:
        return _metadata(url, answer, provider, evidence)
    if kind == KEY_SET:
        return keys_in(url, answer, provider, evidence)
    told = read_json(answer.data).value
    assert isinstance(told, dict)
    found = _issuer(url, str(told.get("issuer") or ""), provider)
    if found is not None:
        return Outcome(FAILED, found.detail, evidence, found, made=told)
    return Outcome(OK, f"issuer {told['issuer']}{_since(told, provider.discovery)}", evidence, made=told)


def _seen(answer: Answer) -> tuple[tuple[str, str], ...]:
    return (
        ("address", answer.url),
        ("status", str(answer.status)),
        ("content type", answer.content_type or "not told"),
        ("size", f"{len(answer.data):,} bytes"),
    )


def _issuer(url: str, issuer: str, provider: Provider) -> Finding | None:
    """Whether the issuer of a discovery document is its address (Discovery §4.3), and the one on record."""
    if url.endswith(_WELL_KNOWN) and issuer.rstrip("/") != url.removesuffix(_WELL_KNOWN).rstrip("/"):
        words = say(
            "The discovery document at {url} says that its issuer is {issuer}.", url=url, issuer=issuer or "nobody"
        )
        expected = url.removesuffix(_WELL_KNOWN)
        return finding("discovery-issuer-mismatch", words, side=Side.PROVIDER, expected=expected, actual=issuer)
    held = provider.settings.issuer or provider.discovery.get("issuer")
    if isinstance(held, str) and held != issuer:
        words = say("The discovery document says issuer {issuer}; on record is {held}.", issuer=issuer, held=held)
        return finding(
            "issuer-mismatch", words, side=Side.APPLICATION, expected=issuer, actual=held, value_to_set=issuer
        )
    return None


def _since(told: dict[str, object], held: dict[str, object]) -> str:
    """Which members are other than on record, in words."""
    if not held:
        return ""
    changed = sorted(name for name, value in held.items() if told.get(name) != value)
    return f"; other than on record: {', '.join(changed)}" if changed else "; as on record"


def _metadata(url: str, answer: Answer, provider: Provider, evidence: tuple[tuple[str, str], ...]) -> Outcome:
    entity, _ = find_entity(answer.data, provider.settings.entity_id, IDP_ROLE)
    if entity is None:
        words = say(
            "The metadata at {url} does not hold {entity_id}.", url=url, entity_id=provider.settings.entity_id or ""
        )
        found = finding("issuer-mismatch", words, side=Side.PROVIDER)
        return Outcome(FAILED, words, evidence, found)
    if provider.settings.entity_id and provider.settings.entity_id != entity.entity_id:
        held = provider.settings.entity_id
        words = say("The metadata is of {entity_id}; on record is {held}.", entity_id=entity.entity_id, held=held)
        found = finding("issuer-mismatch", words, expected=entity.entity_id, actual=held, value_to_set=entity.entity_id)
        return Outcome(FAILED, words, evidence, found, made=entity)
    return Outcome(OK, f"metadata of {entity.entity_id}", evidence, made=entity)


def keys(url: str, provider: Provider, transport: Transport) -> Outcome:
    """A key set at an address: had, read, and with a key for signing."""
    return document(url, KEY_SET, provider, transport)


def keys_in(url: str, answer: Answer, provider: Provider, evidence: tuple[tuple[str, str], ...]) -> Outcome:
    """The keys of a key set: one for signing at least; told against the record."""
    found = read_key_set(read_json(answer.data).value)
    usable = [key for key in found if key.for_signing and not key.problem]
    evidence += tuple(("key", key.id or thumbprint(key) or "no id") for key in found)
    if not usable:
        words = say("The key set at {url} holds no key for signing.", url=url)
        remedy = "Publish the key that the provider signs with in its key set; without it nobody can verify a token."
        return Outcome(FAILED, words, evidence, finding("document-not-fetched", words, remedy=remedy))
    held = {thumbprint(key) for key in provider.key_set}
    now = {thumbprint(key) for key in usable}
    detail = f"{len(usable)} key{'' if len(usable) == 1 else 's'} for signing"
    if held and not held & now:
        words = say("None of the keys on record is published any more at {url}.", url=url)
        return Outcome(RISK, words, evidence, finding("metadata-changed", words, severity=Severity.RISK), made=usable)
    if held and held != now:
        detail += f"; {len(now - held)} new and {len(held - now)} gone since the record"
    return Outcome(OK, detail, evidence, made=usable)


def speaks(url: str, addresses: Sequence[str], transport: Transport) -> Outcome:
    """Whether a host answers in HTTP, with whatever status, and alike at several of its addresses."""
    try:
        answer = transport.head_of(url)
    except Unreachable as error:
        return failed(error)
    via = answer.header("via")
    detail = f"answers in HTTP (status {answer.status})" + (f", through {via}" if via else "")
    for address in addresses if len(addresses) > 1 and not proxy_for(url) else ():
        told = _told_at(url, address, transport)
        if told is not None and told[:2] != _told(answer)[:2]:
            words = say(
                "{host} leads to systems that answer differently: {usual}; at {address} it is {other}.",
                host=host_of(url),
                usual=_told(answer)[2],
                address=address,
                other=told[2],
            )
            return Outcome(RISK, words, _seen(answer), finding("address-differs", words))
    return Outcome(OK, detail, _seen(answer))


def _told(answer: Answer) -> tuple[int, str, str]:
    """What tells two systems apart: the class of the status, and where it leads; and both in words."""
    onward = answer.onward
    words = f"status {answer.status}" + (f", to {plain(onward)}" if onward else "")
    return answer.status // 100, host_of(onward) if onward else "", words


def _told_at(url: str, address: str, transport: Transport) -> tuple[int, str, str] | None:
    """The same of one address; None where it does not answer, which the steps before tell."""
    try:
        return _told(transport.head_at(url, address))
    except Unreachable:
        return None


def endpoint(url: str, kind: str, transport: Transport) -> Outcome:
    """Whether an address answers a request without a message as such an endpoint does."""
    try:
        answer = transport.ask(url)
    except Unreachable as error:
        return failed(error)
    evidence = _seen(answer)
    if answer.onward:
        evidence += (("redirects to", plain(answer.onward)),)
    if answer.status < 400 or answer.status in _HEALTHY[kind]:
        return Outcome(OK, f"status {answer.status}", evidence)
    if kind == CALLBACK and answer.status in _UNTOLD:
        words = say(
            "{url} answers a request without a message with status {status}. Many applications do, and take messages; "
            "trace-lens rehearse tells.",
            url=url,
            status=str(answer.status),
        )
        found = finding("endpoint-not-answering", words, severity=Severity.RISK)
        return Outcome(RISK, words, evidence, found)
    words = say("{url} answers with status {status}.", url=url, status=str(answer.status))
    code = "unexpected-answer" if kind == PAGE else "endpoint-not-answering"
    side = Side.PROVIDER if kind in (TOKEN, USERINFO, SIGN_OUT) else Side.APPLICATION
    return Outcome(FAILED, words, evidence, finding(code, words, side=side))


def clock(url: str, skew: timedelta, transport: Transport, pause: Callable[[float], None]) -> Outcome:
    """The clock of whoever answers at an address, from several Date header fields, against this machine's.

    A Date is a whole second: each sample leaves an interval, and several together a narrower one.
    """
    low, high, count = -1e9, 1e9, 0
    for number in range(_SAMPLES):
        if number:
            pause(_BETWEEN_SAMPLES)
        try:
            answer = transport.head_of(url)
        except Unreachable as error:
            return failed(error) if not count else Outcome(OK, f"{count} samples only: {error.because}")
        told = _date(answer)
        if told is None:
            return Outcome(SKIPPED, "the answer has no Date", _seen(answer))
        low, high = max(low, told - answer.answered), min(high, told + 1 - answer.asked)
        count += 1
    if low > high:
        low, high = min(low, high), max(low, high)
    middle = (low + high) / 2
    evidence = (("offset", f"{middle:+.1f} s"), ("between", f"{low:+.1f} s and {high:+.1f} s"), ("samples", str(count)))
    off = min(abs(low), abs(high)) if low > 0 or high < 0 else 0.0
    if off <= skew.total_seconds() / 2:
        return Outcome(OK, "right, as far as this machine's clock is" if not off else f"{middle:+.1f} s", evidence)
    words = say(
        "The clock of {host} is {gap} {way} of this machine's.",
        host=host_of(url),
        gap=show_duration(timedelta(seconds=abs(middle))),
        way="ahead" if middle > 0 else "behind",
    )
    beyond = off > skew.total_seconds()
    found = finding(
        "clock-offset", words, side=Side.PROVIDER, severity=Severity.BREAK if beyond else Severity.RISK, compared=False
    )
    return Outcome(FAILED if beyond else RISK, words, evidence, found)


def _date(answer: Answer) -> float | None:
    told = answer.header("date")
    try:
        return parsedate_to_datetime(told).timestamp() if told else None
    except (ValueError, TypeError, OverflowError):
        return None


def request(url: str, app: App, workspace: Workspace, transport: Transport, now: datetime) -> Outcome:
    """The provider's answer to a real request of an application: a page to sign in on, or a refusal.

    Redirects are followed on the provider's side only; one to the application is read, not followed.
    """
    passed: list[Passed] = []
    asked = url
    own = {origin_of(address) for address in (*app.acs_urls, *app.settings.application.oidc.redirect_uris)}
    for _ in range(_TURNS):
        begin = datetime.now(UTC).timestamp()
        try:
            answer = transport.ask(asked)
        except Unreachable as error:
            return failed(error)
        passed.append(Passed("GET", asked, (("Host", parts_of(asked).netloc),), None, begin, answer))
        onward = answer.onward
        if (
            onward is None
            or origin_of(onward) in own
            or parts_of(onward).scheme not in ("https", parts_of(asked).scheme)
        ):
            break
        asked = onward
    last = passed[-1].answer
    assert last is not None
    evidence = (*_seen(last), ("hops", str(len(passed))))
    if last.onward and origin_of(last.onward) in own:
        evidence += (("redirects to", plain(last.onward)),)
    told = _refusal(passed, app, workspace, now)
    if told is not None:
        return Outcome(FAILED, told.detail, evidence, told)
    if last.status >= 400:
        told = _named(last, app)
        if told is not None:
            return Outcome(FAILED, told.detail, evidence, told)
        words = say(
            "The provider answers a request of {app} with status {status} at {url}.",
            app=app.name,
            status=str(last.status),
            url=plain(last.url),
        )
        found = finding("request-rejected", words, side=Side.APPLICATION)
        return Outcome(FAILED, words, evidence, found)
    where = (
        "goes back to the application"
        if last.onward and origin_of(last.onward) in own
        else "shows a page to sign in on"
    )
    return Outcome(OK, f"the provider knows {app.name}: it {where}", evidence)


_REFUSALS = (
    "request-rejected",
    "provider-refused",
    "redirect-uri-mismatch",
    "identifier-in-request-unknown",
    "acs-not-registered",
    "request-unsigned",
    "scope-not-granted",
    "consent-missing",
    "wrong-binding",
    "code-challenge-missing",
    "not-assigned",
)


def _named(answer: Answer, app: App) -> Finding | None:
    """The cause that a page of an error names, in the words that such pages use."""
    shown = page_of(Exchange(1, "", "GET", answer.url, answer.status, received=answer.headers, answer=answer.data))
    text = " ".join((*shown.said_loudly, shown.text))
    topic = next((topic for topic in topics_of("provider") if topic.pattern.search(text)), None)
    if topic is None:
        return None
    words = say(
        'The provider refuses a request of {app} with status {status}; its page says: "{text}".',
        app=app.name,
        status=str(answer.status),
        text=Quotation(shown.text[: limits.PAGE_WORDS]),
    )
    return finding(topic.raises or topic.codes[0], words, side=Side.APPLICATION)


def _refusal(passed: Sequence[Passed], app: App, workspace: Workspace, now: datetime) -> Finding | None:
    """The refusal that the exchanges show, judged like any capture."""
    source = SourceFile("the probe", as_har(passed))
    result = diagnose_sources([source], workspace, Options(now=now, app=app.id))
    for diagnosis in result.diagnoses:
        first = diagnosis.first_break
        if first is not None and first.code in _REFUSALS:
            return first
    return None
