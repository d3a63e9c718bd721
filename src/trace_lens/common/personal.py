"""Which claims, attributes and parameters name a person: their values are personal, whatever they hold.

Sources: OpenID Connect Core §5.1; SAML 2.0 Core §2.2; RFC 4519, RFC 4524, RFC 2798 and eduPerson for attribute names.
"""

from __future__ import annotations

import re
from typing import TypeVar

from trace_lens.common.expressions import expression
from trace_lens.common.sentences import Person

_NAMING = expression(
    r"(?:urn:oid:(?:0\.9\.2342\.19200300\.100\.1\.[13]|2\.5\.4\.(?:3|4|20|42)|2\.16\.840\.1\.113730\.3\.1\.(?:3|241)"
    r"|1\.3\.6\.1\.4\.1\.5923\.1\.1\.1\.(?:6|13)))|(?:.*[/:.])?(?:nameid|name_id|sub|subject|upn|userprincipalname|uid|user_?name|user|login(?:_hint)?|account_?name"
    r"|preferred_username|unique_name|edupersonprincipalname|eppn|e?mail(?:address)?|given_?name|family_?name|surname|sn"
    r"|cn|display_?name|nickname|name|phone_number|employee_?number|samaccountname|account|subject_id)",
    re.IGNORECASE,
)
Text = TypeVar("Text", str, str | None)


def names_person(label: str) -> bool:
    """Whether a claim, attribute or parameter of this name tells who somebody is."""
    return _NAMING.fullmatch(label) is not None


def personal(label: str, value: str) -> str:
    """A value as the name of a person, where its label says that it is one."""
    return Person(value) if names_person(label) else value


def person(value: Text) -> Text:
    """The name of a person; None stays None."""
    return None if value is None else Person(value)
