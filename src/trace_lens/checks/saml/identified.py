"""Identified, as far as it is SAML's own: the NameID's format and whether it lasts (SAML 2.0 Core §8.3)."""

from __future__ import annotations

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.identified import account_name, index_of
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Severity
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Person, say
from trace_lens.saml.messages import is_unspecified
from trace_lens.saml.names import (
    FORMAT_EMAIL,
    FORMAT_KERBEROS,
    FORMAT_PERSISTENT,
    FORMAT_TRANSIENT,
    FORMAT_UNSPECIFIED,
    FORMAT_WINDOWS,
    FORMAT_X509,
    short,
)

_SHAPES = {
    FORMAT_EMAIL: expression(r"[^@\s]+@[^@\s]+"),
    FORMAT_KERBEROS: expression(r"[^@\s]+@[^@\s]+"),
    FORMAT_WINDOWS: expression(r"([^\\]+\\)?[^\\@]+"),
    FORMAT_X509: expression(r"\s*[A-Za-z.\d]+\s*=.*"),
}


@check("name-id-format-mismatch")
def name_id_format(case: SamlCase) -> Answer:
    """Has the NameID the format that the application wants (SAML 2.0 Core §8.3)?"""
    name = case.name_id
    wanted = case.app.settings.application.saml.name_id_format if case.app else None
    if name is None or wanted is None or wanted == FORMAT_UNSPECIFIED:
        return
    if case.supposed.get("provider_setup.name_id_format", name.format) == wanted:
        return
    fits = _fits(case, wanted)
    given = short(name.format) if not is_unspecified(name) else "unspecified" if name.format_given else "not given"
    yield finding(
        "name-id-format-mismatch",
        say(
            "The application wants a NameID of the format {wanted}; the one sent is {given}.",
            wanted=short(wanted),
            given=given,
        )
        + (
            " Its value would still do."
            if fits
            else say(" {name_value} is not of the wanted kind.", name_value=Person(name.value))
        ),
        severity=Severity.RISK if fits else Severity.BREAK,
        expected=wanted,
        actual=name.format,
        value_to_set=wanted,
        evidence=[
            *case.shown("NameID", name),
            case.set_in_app("name_id_format", wanted, "application", "name_id_format"),
        ],
        compared=False,
    )


def _fits(case: SamlCase, wanted: str) -> bool:
    """Whether the value would do although the format differs: it is an account's name, or has the wanted shape."""
    index = index_of(case, case.app) if case.app else None
    found = account_name(case)
    if index is not None and found and case.app and case.app.settings.account.source == "NameID":
        return bool(index.find(found.wanted))
    shape = _SHAPES.get(wanted)
    name = case.name_id
    opaque = name is not None and name.format in (FORMAT_TRANSIENT, FORMAT_PERSISTENT)
    return bool(name and shape and not opaque and shape.fullmatch(name.value))


@check("subject-unstable")
def stable(case: SamlCase) -> Answer:
    """Will the name be the same at the next sign-in?"""
    name = case.name_id
    if name is None or (case.app and case.app.settings.account.source != "NameID"):
        return
    wanted = case.app.settings.application.saml.name_id_format if case.app else None
    if name.format == FORMAT_TRANSIENT or (
        name.format == FORMAT_PERSISTENT and case.app and wanted != FORMAT_PERSISTENT
    ):
        what = "another at every sign-in" if name.format == FORMAT_TRANSIENT else "made for this one application"
        yield finding(
            "subject-unstable",
            say(
                "The account is found by a {format} identifier, which is {what}.", format=short(name.format), what=what
            ),
            actual=name.format,
            evidence=case.shown("NameID", name),
        )


CHECKS = (
    name_id_format,
    stable,
)
