"""The claims of a message laid against the claims that the application reads: which serve, which are lacking.

One table is worked out for a case; the checks of `entitled` and the claims table of a diagnosis both read it.
"""

from __future__ import annotations

import re

from trace_lens.checks.case import Case, Need
from trace_lens.common.difference import edit_distance
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.settings import Claim

# Attribute object identifiers and the names they have in LDAP (RFC 4519, RFC 4524, RFC 2798, the eduPerson schema).
OBJECT_IDENTIFIERS = {
    "urn:oid:0.9.2342.19200300.100.1.1": "uid",
    "urn:oid:0.9.2342.19200300.100.1.3": "mail",
    "urn:oid:0.9.2342.19200300.100.1.10": "manager",
    "urn:oid:0.9.2342.19200300.100.1.41": "mobile",
    "urn:oid:1.3.6.1.4.1.5923.1.1.1.1": "eduPersonAffiliation",
    "urn:oid:1.3.6.1.4.1.5923.1.1.1.6": "eduPersonPrincipalName",
    "urn:oid:1.3.6.1.4.1.5923.1.1.1.7": "eduPersonEntitlement",
    "urn:oid:1.3.6.1.4.1.5923.1.1.1.9": "eduPersonScopedAffiliation",
    "urn:oid:2.5.4.3": "cn",
    "urn:oid:2.5.4.4": "sn",
    "urn:oid:2.5.4.6": "c",
    "urn:oid:2.5.4.7": "l",
    "urn:oid:2.5.4.10": "o",
    "urn:oid:2.5.4.11": "ou",
    "urn:oid:2.5.4.12": "title",
    "urn:oid:2.5.4.20": "telephoneNumber",
    "urn:oid:2.5.4.42": "givenName",
    "urn:oid:2.16.840.1.113730.3.1.2": "departmentNumber",
    "urn:oid:2.16.840.1.113730.3.1.3": "employeeNumber",
    "urn:oid:2.16.840.1.113730.3.1.4": "employeeType",
    "urn:oid:2.16.840.1.113730.3.1.39": "preferredLanguage",
    "urn:oid:2.16.840.1.113730.3.1.241": "displayName",
}
ASSERTION = "assertion"
"""What of a case the claims are read from: the assertion, or the ID token and what goes with it."""
_SAME_MEANING = (
    {"mail", "email", "emailaddress", "mailaddress"},
    {"givenname", "firstname"},
    {"sn", "surname", "familyname", "lastname"},
    {"displayname", "name", "cn", "fullname"},
    {"role", "roles"},
    {"group", "groups", "memberof"},
    {"uid", "username", "userid", "login"},
    {"department", "dept", "departmentname", "ou", "organizationalunit"},
    {"employeenumber", "employeeid", "staffnumber", "staffid", "personnelnumber"},
    {"title", "jobtitle"},
    {"phone", "phonenumber", "telephonenumber", "telephone"},
    {"company", "companyname", "organization", "organisation", "o"},
)


class Match(NamedTuple):
    """One claim that the application reads, and what was sent for it.

    `sent_as` is the attribute that serves it, or nearly does (`near`); both None where nothing was sent.
    """

    claim: Claim
    position: int
    sent_as: str | None
    values: tuple[str, ...]
    near: bool

    @property
    def served(self) -> bool:
        """Whether it arrived under a name that the application reads."""
        return self.sent_as is not None and not self.near

    @property
    def filled(self) -> tuple[str, ...]:
        """Its values, less the empty ones."""
        return tuple(value for value in self.values if value.strip())

    def mapped(self) -> tuple[str, ...]:
        """Its values as the application's own, where a map is set."""
        return tuple(self.claim.maps.get(value, value) for value in self.filled)


class ClaimRow(NamedTuple):
    """One row of the claims table; `use` is used, unused, missing or other-name.

    `serves` is the name by which the application reads it, `mapped` what its map makes of the values. `optional` marks
    a claim that may be left out.
    """

    name: str
    values: tuple[str, ...]
    source: str
    use: str
    serves: str | None = None
    mapped: tuple[str, ...] = ()
    optional: bool = False


def matches(case: Case) -> tuple[Match, ...]:
    """Every claim that the application reads, with what was sent for it."""
    return case.once("claims", lambda: _matches(case))


def _matches(case: Case) -> tuple[Match, ...]:
    if case.app is None:
        return ()
    claims = case.app.settings.claims
    exact = {name for claim in claims for name in (claim.name, *claim.also_as) if name in case.said}
    found = []
    for position, claim in enumerate(claims):
        sent = next((name for name in (claim.name, *claim.also_as) if name in case.said), None)
        near = None if sent else _near(claim, [name for name in case.said if name not in exact], case)
        name = sent or near
        found.append(
            Match(
                claim=claim,
                position=position,
                sent_as=name,
                values=case.said[name] if name else (),
                near=near is not None,
            )
        )
    return tuple(found)


def table(case: Case) -> tuple[ClaimRow, ...]:
    """The claims table: what was sent and is used, what was sent for nothing, what is lacking."""
    if case.lacks(Need.ASSERTION):
        return ()
    found = matches(case)
    use = {match.sent_as: "other-name" if match.near else "used" for match in found if match.sent_as}
    if case.account_source in case.said:
        use[case.account_source] = "used"
    for marker in case.markers:
        use.setdefault(marker, "used")
    by_name = {match.sent_as: match for match in found if match.sent_as}
    rows = [
        ClaimRow(name, values, case.source_of(name), use.get(name, "unused"), *_read_as(by_name.get(name)))
        for name, values in case.said.items()
    ]
    return (
        *rows,
        *(
            ClaimRow(
                name=match.claim.name,
                values=(),
                source=case.main_source,
                use="missing",
                serves=match.claim.name,
                optional=match.claim.need == "may",
            )
            for match in found
            if match.sent_as is None
        ),
    )


def _read_as(match: Match | None) -> tuple[str | None, tuple[str, ...]]:
    return (match.claim.name, match.mapped() if match.claim.maps else ()) if match else (None, ())


def _near(claim: Claim, names: list[str], case: Case) -> str | None:
    """The attribute surely meant for a claim: by case, namespace, friendly name, object identifier or spelling."""
    for wanted in (claim.name, *claim.also_as):
        for name in names:
            spoken = {name, *case.also_called(name)}
            if any(_alike(wanted, spelling) for spelling in spoken):
                return name
    return None


def by_attribute_map(claim: Claim, sent: str, case: Case) -> bool:
    """Whether a claim and the attribute sent for it are one by a table that applications have: the object identifier of
    an attribute against its name (RFC 4519), or its friendly name (SAML 2.0 Core §2.7.3.1).
    """
    spoken = {sent, OBJECT_IDENTIFIERS.get(sent, sent), *case.also_called(sent)}
    names = {claim.name, *claim.also_as}
    wanted = names | {OBJECT_IDENTIFIERS.get(name, name) for name in names}
    by_identifier = sent.startswith("urn:oid:") != all(name.startswith("urn:oid:") for name in names)
    return by_identifier and bool({name.casefold() for name in spoken} & {name.casefold() for name in wanted})


def _alike(wanted: str, sent: str) -> bool:
    if wanted.strip().casefold() == sent.strip().casefold():
        return True
    left, right = _bare(wanted), _bare(sent)
    if left == right:
        return True
    if any(left in meaning and right in meaning for meaning in _SAME_MEANING):
        return True
    return min(len(left), len(right)) >= 5 and edit_distance(left, right, 1) <= 1


def _bare(name: str) -> str:
    """The last part of a name, without its namespace and without punctuation."""
    spoken = OBJECT_IDENTIFIERS.get(name.strip(), name)
    last = re.split(r"[/:#]", spoken.strip().rstrip("/"))[-1].casefold()
    return re.sub(r"[\W_]", "", last.removeprefix("user."))
