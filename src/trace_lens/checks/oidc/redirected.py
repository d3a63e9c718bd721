"""Whether the answer came to a registered redirect URI (RFC 6749 §3.1.2, RFC 8252 §7.3)."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import parse_qsl

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.way.parties import return_hop
from trace_lens.checks.way.redirected import came_first_to
from trace_lens.common.addresses import parts_of, same_address
from trace_lens.common.findings import Allows, Evidence, Finding, Severity, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace.records import App

_LOOPBACK = ("127.0.0.1", "::1")


def same_redirect(registered: str, used: str) -> bool:
    """Whether a redirect URI is the registered one: to the letter, but for the port of a loopback literal."""
    if registered == used:
        return True
    left, right = parts_of(registered), parts_of(used)
    loopback = left.scheme == "http" and left.hostname in _LOOPBACK
    return loopback and left._replace(netloc="") == right._replace(netloc="") and left.hostname == right.hostname


_TO_THE_LETTER = "Repeat in the request for tokens the redirect URI of the authorization request, to the letter."


def _registered(app: App) -> tuple[tuple[str, ...], str]:
    """The redirect URIs that the provider knows, and the table that says so."""
    if app.settings.provider_setup.redirect_uris:
        return app.settings.provider_setup.redirect_uris, "provider_setup"
    return app.settings.application.oidc.redirect_uris, "application"


@check("redirect-uri-mismatch", requires=Need.REQUEST)
def redirect_uri(case: OidcCase) -> Answer:
    """Is the redirect URI one that is registered, to the letter?"""
    sent = case.asked("redirect_uri")
    if sent is None:
        if "request_uri" not in (case.request.names if case.request else ()):
            yield finding(
                "malformed-message",
                "The authorization request names no redirect_uri, which OpenID Connect demands.",
                side=Side.APPLICATION,
                expected="redirect_uri",
                evidence=case.parameter(case.attempt.request, "client_id"),
            )
        return
    yield from _redirect_finding(case, sent, case.parameter(case.attempt.request, "redirect_uri"), "asks for an answer")


def _redirect_finding(case: OidcCase, used: str, evidence: list[Evidence], does: str) -> Iterator[Finding | Unchecked]:
    if case.app is None:
        yield Unchecked("redirect-uri-mismatch", "no application is known for this message")
        return
    known, table = _registered(case.app)
    if not known:
        yield Unchecked(
            "redirect-uri-mismatch",
            lack(
                f"no redirect URIs are on record for {case.app.id}",
                Allows.RECORD,
                case.app.source.file,
                "application.redirect_uris",
            ),
        )
        return
    if any(same_redirect(text, used) for text in known):
        return
    nearest = closest(used, known)
    set_there = used in case.app.settings.application.oidc.redirect_uris and table == "provider_setup"
    answered = case.attempt.answer is not None and not case.refused
    yield finding(
        "redirect-uri-mismatch",
        say("{app_name} {does} at {used}; ", app_name=case.app.name, does=does, used=used)
        + (
            say("the provider knows only {known}.", known=", ".join(known))
            if table == "provider_setup"
            else say("set is {nearest}.", nearest=nearest)
        ),
        severity=Severity.RISK if answered else None,
        side=Side.PROVIDER if set_there else Side.APPLICATION,
        expected=nearest,
        actual=used,
        value_to_set=used if set_there else nearest,
        evidence=[*evidence, case.set_in_app("redirect_uris", nearest, table, "redirect_uris")],
    )


def _came_first_there(case: OidcCase, asked: str) -> bool:
    """Whether the answer came to the address that was asked for, and was redirected from there."""
    back = return_hop(case)
    return back is not None and case.attempt.way is not None and came_first_to(case.attempt.way, back, asked)


def _fits_address(redirect: str, address: str) -> bool:
    """Whether a redirect URI can be the one that an answer came to. Its own query is not compared: an export shows it
    together with the answer.
    """
    return same_address(redirect.partition("?")[0], address.partition("?")[0])


def _redeemed_elsewhere(
    case: OidcCase, request: OidcMessage, answer: OidcMessage | None, again: str, address: str
) -> Finding:
    """A request for tokens with another redirect URI than the answer came to, where the first request is not there."""
    return finding(
        "redirect-uri-mismatch",
        say(
            "The token request says redirect_uri {again}; the answer came to {address}. Both must be the same to the "
            "letter.",
            again=again,
            address=address,
        ),
        side=Side.APPLICATION,
        remedy=_TO_THE_LETTER,
        expected=address,
        actual=again,
        value_to_set=address,
        evidence=[*case.parameter(request, "redirect_uri"), *(at_address(answer, address) if answer else [])],
    )


@check("redirect-uri-mismatch", requires=Need.MESSAGE)
def came_to(case: OidcCase) -> Answer:
    """Did the answer come to the redirect URI that was asked for, and does the token request repeat it?"""
    asked = case.asked("redirect_uri")
    answer = case.attempt.answer
    address = answer.parameters.address if answer and answer.parameters else None
    if answer and address and answer.get("error") and _at_provider(case, address):
        address = None
    if answer and address and asked is None:
        yield from _redirect_finding(case, address, at_address(answer, address), "got its answer")
    elif answer and address and asked and not (_came_there(asked, answer, address) or _came_first_there(case, asked)):
        yield finding(
            "redirect-uri-mismatch",
            say("The answer was to come to {asked}; it came to {address}.", asked=asked, address=address),
            side=Side.PROVIDER,
            expected=asked,
            actual=address,
            value_to_set=asked,
            evidence=[*at_address(answer, address), *case.parameter(case.attempt.request, "redirect_uri")],
        )
    for request in case.attempt.code_requests:
        again = request.get("redirect_uri")
        if asked is None and address and request.get("code") and again and not _fits_address(again, address):
            yield _redeemed_elsewhere(case, request, answer, again, address)
        if asked and request.get("code") and again != asked:
            yield finding(
                "redirect-uri-mismatch",
                (
                    "The token request "
                    + (say("says redirect_uri {again}", again=again) if again else "omits redirect_uri")
                )
                + say("; the authorization request said {asked}. Both must be the same to the letter.", asked=asked),
                side=Side.APPLICATION,
                remedy=_TO_THE_LETTER,
                expected=asked,
                actual=again,
                value_to_set=asked,
                evidence=[
                    *case.parameter(request, "redirect_uri"),
                    *case.parameter(case.attempt.request, "redirect_uri"),
                ],
            )
            return
        if again and asked is None and address is None:
            yield from _redirect_finding(case, again, case.parameter(request, "redirect_uri"), "redeems its code for")


def _came_there(asked: str, answer: OidcMessage, address: str) -> bool:
    """Whether an answer came to the redirect URI that was asked for, as browsers write addresses; its own query is kept
    before the parameters of the answer (RFC 6749 §3.1.2).
    """
    wanted, _, own = asked.partition("?")
    if not (same_redirect(wanted, address) or same_address(wanted, address)):
        return False
    if not own or answer.parameters is None or answer.parameters.carried != "query":
        return True
    return set(parse_qsl(own, keep_blank_values=True)) <= set(answer.parameters.pairs)


def _at_provider(case: OidcCase, address: str) -> bool:
    """Whether an address is one of the provider's own: there it shows errors that it will not send to anybody."""
    provider = case.provider
    known = [provider.issuer, provider.discovery.get("authorization_endpoint")] if provider else []
    hosts = {parts_of(text).netloc for text in known if isinstance(text, str)}
    return parts_of(address).netloc in hosts - {""}


def at_address(message: OidcMessage, address: str) -> list[Evidence]:
    return [Evidence("address", address, message.source, message.place, exchange=message.exchange)]


CHECKS = (redirect_uri, came_to)
