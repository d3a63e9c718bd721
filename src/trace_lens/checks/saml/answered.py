"""Answered: the provider said yes, not an error (SAML 2.0 Core §3.2.2)."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.way.topics import advice_by_words, speaks_of_request
from trace_lens.common.findings import Allows, Side, Unchecked, lack
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.names import STATUS_PREFIX, SUCCESS, short
from trace_lens.saml.statuses import meaning_of

_UNASKED = (
    "Start at the application with a sign-in that may ask: the request forbade the provider to ask anything "
    "(IsPassive), and there was no session."
)


@check("provider-refused", "request-rejected", requires=Need.MESSAGE)
def status(case: SamlCase) -> Answer:
    """Is the status Success? If not: what do the codes mean, and whose move is it?"""
    if case.response is None:
        yield Unchecked(
            "provider-refused",
            lack("only the assertion was captured, not the response with its status", Allows.RECORDING),
        )
        return
    found = case.response.status
    if found is None or not case.refused:
        return
    meanings = [(code.value, meaning_of(code.value)) for code in found.codes]
    told = [(code, meaning) for code, meaning in meanings if meaning]
    innermost = told[-1][1] if told else None
    adds = found.message.value if found.message else None
    of_request = found.codes[0].value == STATUS_PREFIX + "Requester" and speaks_of_request(adds)
    rejects = of_request or any(meaning.rejects_request for _, meaning in told)
    words = "; ".join(
        f"{short(code)}: {meaning.meaning}" if meaning else f"{code}: a code of this provider's own"
        for code, meaning in meanings
    )
    said = (
        say(" It adds: {quoted_at_end}", quoted_at_end=quoted_at_end(found.message.value))
        if found.message and found.message.value.strip()
        else ""
    )
    usual = say(" The usual cause: {cause}.", cause=innermost.cause) if innermost else ""
    evidence = [item for code in found.codes for item in case.shown("StatusCode", code)]
    advice = advice_by_words(adds)
    side = Side(innermost.side) if innermost else Side.PROVIDER
    if of_request:
        side = advice[1] if advice else Side.APPLICATION
    yield finding(
        "request-rejected" if rejects else "provider-refused",
        say(
            "The provider answered with an error instead of an assertion. {upper}{words}.{said}{usual}",
            upper=words[0].upper(),
            words=words[1:],
            said=said,
            usual=usual,
        ),
        side=side,
        remedy=_UNASKED
        if found.codes[-1].value == STATUS_PREFIX + "NoPassive"
        else advice[0]
        if advice and advice[1] == side
        else None,
        expected=SUCCESS,
        actual=found.codes[-1].value,
        evidence=[
            *evidence,
            *case.shown("StatusMessage", found.message),
            *case.shown("StatusDetail", found.detail),
        ],
        compared=False,
    )


CHECKS = (status,)
