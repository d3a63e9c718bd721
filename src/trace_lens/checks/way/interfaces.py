"""After the sign-in: did the interfaces that the application called take its access token?

An interface's refusal says nothing of the sign-in itself. Told by what RFC 6750 §3 has an interface say, or by a call
that carried a bearer token and was answered 401 or 403; of the provider's own endpoints only userinfo is one. An answer
that the browser kept from the page counts where the call carried this sign-in's own token.
"""

from __future__ import annotations

import re

from trace_lens.attempts.journeys import Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.parties import PROVIDER, at_hop, parties, return_hop
from trace_lens.common.addresses import host_of, origin_of, same_address
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Finding, Side
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Quotation, say
from trace_lens.intake.browser_words import Trouble
from trace_lens.intake.exchanges import CALL, Exchange
from trace_lens.oidc.jose import JoseDamaged, read_jws
from trace_lens.oidc.tokens import ID, NoClaims, Token, read_token

_PARAMETER = expression(r'(?<!\w)(\w++)\s*+=\s*+(?:"((?:[^"\\]++|\\.)*+)"|([^\s,"]++))')


def bearer_of(exchange: Exchange) -> str | None:
    """The bearer token that a call carries (RFC 6750 §2.1)."""
    scheme, _, token = (exchange.request("authorization") or "").partition(" ")
    return token.strip() or None if scheme.lower() == "bearer" else None


def challenge_of(exchange: Exchange) -> dict[str, str]:
    """The parameters of a Bearer challenge (RFC 6750 §3); empty where there is none."""
    told = exchange.response("www-authenticate") or ""
    start = re.search(r"(?:^|,)\s*+bearer\b", told, re.IGNORECASE)
    if start is None:
        return {}
    return {
        match[1].lower(): match[2] if match[2] is not None else match[3]
        for match in _PARAMETER.finditer(told[start.end() :])
    }


@check("api-refused", requires=Need.WAY)
def interfaces(case: Case) -> Answer:
    """Did each interface take the token that it was called with?"""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if way is None or back is None or not isinstance(case.attempt, OidcAttempt):
        return
    own = case.attempt.access_token_texts | ({text} if (text := _id_token_text(case.attempt)) else set())
    for exchange in way.telling:
        if exchange.number <= back.exchange.number or exchange.kind != CALL:
            continue
        token = bearer_of(exchange)
        if token is None:
            continue
        page = _caller(exchange) or back.exchange.url
        if token in own and _kept_by_browser(way, exchange, page) and not _taken_later(way, exchange):
            yield _not_handed_over(case, exchange, page)
            return
        if exchange.status not in (401, 403):
            continue
        if not _is_interface(case, exchange) or not _of_this_sign_in(case, exchange, token, own):
            continue
        if _taken_later(way, exchange) or _renewed_after(case.attempt, way, exchange):
            continue
        yield _finding(case, exchange, token)
        return


def _is_interface(case: Case, exchange: Exchange) -> bool:
    """Whether a call is one of an interface: of the provider's endpoints only userinfo is (OpenID Connect Core
    §5.3).
    """
    if parties(case).side_of(exchange) != PROVIDER:
        return True
    userinfo = case.provider.discovery.get("userinfo_endpoint") if case.provider else None
    return isinstance(userinfo, str) and same_address(exchange.plain_url, userinfo)


def _caller(exchange: Exchange) -> str | None:
    """The page that made a call, as far as the call says; a page may keep that to itself (Referrer Policy §3)."""
    return exchange.request("origin") or exchange.request("referer") or exchange.caused_by


def _kept_by_browser(way: Way, exchange: Exchange, page: str) -> bool:
    """Whether the browser kept the answer to a call from its page, by the rules for other origins (Fetch §4.1, §4.8).

    It says so itself, or it asked first and the interface allowed no origin.
    """
    if exchange.status > 0 or origin_of(page) == exchange.origin:
        return False
    if exchange.trouble in (Trouble.CROSS_ORIGIN, Trouble.FAILED):
        return True
    return exchange.problem is None and any(
        asked.method == "OPTIONS"
        and asked.status > 0
        and asked.received  # header fields that an export leaves out show nothing
        and same_address(asked.url, exchange.url)
        and not asked.response("access-control-allow-origin")
        for asked in way.exchanges
    )


def _not_handed_over(case: Case, exchange: Exchange, page: str) -> Finding:
    return finding(
        "api-refused",
        say(
            "The sign-in went through; then the browser kept the answer of {host} from the page: no "
            "Access-Control-Allow-Origin allows {page}{problem}.",
            host=exchange.host,
            page=origin_of(page),
            problem=f" ({exchange.problem})" if exchange.problem else "",
        ),
        side=Side.APPLICATION,
        remedy="Allow the origin of the calling page at this interface, for the header field Authorization too.",
        actual=exchange.problem,
        value_to_set=f"Access-Control-Allow-Origin: {origin_of(page)}",
        evidence=[at_hop(case, "refused", exchange.problem or "no answer", exchange)],
        compared=False,
    )


def _of_this_sign_in(case: Case, exchange: Exchange, token: str, own: set[str]) -> bool:
    """Whether a call is this sign-in's: by its token where the capture shows it, else by the page or host it is of.

    Another tab calls interfaces too.
    """
    if own:
        return token in own
    page = _caller(exchange) or exchange.url
    return host_of(page) in parties(case).application


def _taken_later(way: Way, exchange: Exchange) -> bool:
    """Whether the same call went through later, with a token that was renewed."""
    return any(
        other.number > exchange.number
        and same_address(other.url, exchange.url)
        and other.method == exchange.method
        and 200 <= other.status < 300
        for other in way.exchanges
    )


def _renewed_after(attempt: OidcAttempt, way: Way, exchange: Exchange) -> bool:
    """Whether the page got a new token after a refusal, and no call shows that this was refused too; so it is where the
    end of the capture was not read.
    """
    if not way.capture.is_whole:
        return True
    for _, answer in attempt.renewals:
        after = way.hop_of(answer.found) if answer else None
        if answer is None or after is None or answer.get("error") or after.exchange.number < exchange.number:
            continue
        new = answer.get("access_token")
        if not any(bearer_of(call) == new and call.status in (401, 403) for call in way.exchanges):
            return True
    return False


def _id_token_text(attempt: OidcAttempt) -> str | None:
    token = attempt.id_token
    return token.token.jws.text if token and token.token else None


def _finding(case: Case, exchange: Exchange, token: str) -> Finding:
    told = challenge_of(exchange)
    read = _read(token)
    error, words = told.get("error"), told.get("error_description")
    why, side, value = _why(case, exchange, told, read)
    said = (
        say(" It says: {error}{words}.", error=error, words=say(", “{words}”", words=Quotation(words)) if words else "")
        if error
        else ""
    )
    evidence = [at_hop(case, "status", str(exchange.status), exchange, "response")]
    if exchange.response("www-authenticate"):
        evidence.append(
            at_hop(case, "WWW-Authenticate", exchange.response("www-authenticate") or "", exchange, "response header")
        )
    if read:
        scope = read.text("scope") or read.text("scp") or "none"
        evidence.append(at_hop(case, "aud of the token", ", ".join(read.audience) or "none", exchange))
        evidence.append(at_hop(case, "scope of the token", scope, exchange))
    return finding(
        "api-refused",
        say(
            "The sign-in went through; then {host} refused the access token with {status}.{said} {why}",
            host=exchange.host,
            status=exchange.status,
            said=said,
            why=why,
        ).strip(),
        side=side,
        actual=error or str(exchange.status),
        value_to_set=value,
        evidence=evidence,
        compared=False,
    )


def _read(token: str) -> Token | None:
    try:
        return read_token(read_jws(token))
    except (JoseDamaged, NoClaims):
        return None


def _why(case: Case, exchange: Exchange, told: dict[str, str], read: Token | None) -> tuple[str, Side, str | None]:
    """Why the interface said no, as far as token and challenge show; whose move it is; what to ask for."""
    if read and read.kind == ID:
        return "What was sent is an ID token, which no interface may take.", Side.APPLICATION, None
    end = read.at("exp") if read else None
    if end and exchange.at and exchange.at >= end:
        return "The token had ended by then.", Side.APPLICATION, None
    scope = told.get("scope")
    held = ((read.text("scope") or read.text("scp") or "") if read else "").split()
    if told.get("error") == "insufficient_scope" or (scope and read and not set(scope.split()) <= set(held)):
        asked = (case.asked("scope") or "").split()  # type: ignore[attr-defined]
        missing = [name for name in (scope or "").split() if name not in held]
        if missing and not set(missing) <= set(asked):
            return f"The scope {' '.join(missing)} was not asked for.", Side.APPLICATION, " ".join([*asked, *missing])
        return f"The scope {scope or 'that it needs'} was not granted.", Side.PROVIDER, scope
    if read and read.audience:
        return f"The token is made for {', '.join(read.audience)}.", Side.APPLICATION, None
    return "", Side.APPLICATION, None


CHECKS = (interfaces,)
