"""Who is who at Northmere Ferries: people, applications and the settings of both sides, as data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from types import MappingProxyType
from typing import NamedTuple

from trace_lens.demo.messages import EMAIL

HOME = "northmere.example"
SHORE = "northmere-shore.example"
"""The site of what is hosted elsewhere."""
PROVIDER = f"https://id.{HOME}/saml"
PROVIDER_SSO = f"https://id.{HOME}/saml/sso"
PROVIDER_SLO = f"https://id.{HOME}/saml/slo"
PARTNER = "https://sso.skerry-pilots.example/idp"
ROLLOVER = datetime(2026, 11, 17, 5, 0, tzinfo=UTC)
"""Tuesday, 17 November 2026: the provider changes its signing key."""


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody with an account; `groups` are directory groups."""

    login: str
    groups: tuple[str, ...] = ("grp-staff",)
    domain: str = HOME

    @property
    def email(self) -> str:
        """The person's address."""
        return f"{self.login}@{self.domain}"

    @property
    def held(self) -> str:
        """The login that the directory of Northmere holds: of a guest, the address folded into a name of the house."""
        return self.login if self.domain == HOME else f"{self.login}_{self.domain}~guest@{HOME}"


PEOPLE = (
    Person("m.tern", ("grp-staff", "grp-deck")),
    Person("a.fulmar", ("grp-staff", "grp-bridge")),
    Person("j.gannet", ("grp-staff", "grp-harbour")),
    Person("o.petrel", ("grp-staff", "grp-galley")),
    Person("s.skua", ("grp-staff", "grp-claims")),
    Person("l.plover", ("grp-staff", "grp-desk")),
    Person("k.dunlin", ("grp-staff", "grp-fuel")),
    Person("e.eider", ("grp-staff", "grp-charts")),
)
GUESTS = (
    Person("nils.lunde", (), "skerry-pilots.example"),
    Person("ida.holm", (), "skerry-pilots.example"),
)


@dataclass(frozen=True, slots=True)
class Claim:
    """A claim that an application reads, as lines of its settings."""

    name: str
    lines: tuple[str, ...]


class AtProvider(NamedTuple):
    """How the provider is set up for an application: what it names as audience where that is wrong, who is assigned,
    and what it sends.
    """

    audience: str | None = None
    assigned: tuple[str, ...] = ("grp-staff",)
    signed_part: str = "assertion"
    encrypted: bool = False
    attributes: Mapping[str, list[str]] = MappingProxyType({})


class Lines(NamedTuple):
    """Further lines of an application's settings, by table."""

    application: tuple[str, ...] = ()
    setup: tuple[str, ...] = ()
    account: tuple[str, ...] = ()
    subject: tuple[tuple[str, ...], ...] = ()
    accepted: tuple[str, ...] = ()


_USUAL, _NONE = AtProvider(), Lines()


@dataclass(frozen=True, slots=True)
class Application:
    """One application: `pins` lists what it trusts (old, new, sha256 of old …)."""

    id: str
    name: str
    host: str
    users: int
    slash: bool = False
    pins: tuple[str, ...] = ("certs/id-2025.pem", "certs/id-2026.pem")
    people: tuple[Person, ...] = PEOPLE
    claims: tuple[Claim, ...] = ()
    unsolicited: bool = True
    metadata: bool = False
    site: str = HOME
    at_provider: AtProvider = _USUAL
    lines: Lines = _NONE

    @property
    def base(self) -> str:
        """Its address."""
        return f"https://{self.host}.{self.site}"

    @property
    def entity_id(self) -> str:
        """Its entity ID."""
        return f"{self.base}/saml/" if self.slash else f"{self.base}/saml"

    @property
    def acs_url(self) -> str:
        """Its assertion consumer service."""
        return f"{self.base}/saml/acs"


_ROLE = Claim(
    "role",
    (
        'need = "must"',
        'one_of = ["deckhand", "mate", "master"]',
        'elevated = ["master"]',
        'default_role = "deckhand"',
        "single = true",
    ),
)

APPLICATIONS = (
    Application(
        "crew-roster",
        "Crew Roster",
        "roster",
        1840,
        slash=True,
        claims=(_ROLE,),
        at_provider=AtProvider(audience=f"https://roster.{HOME}/saml", attributes={"role": ["mate"]}),
    ),
    Application(
        "berth-planner",
        "Berth Planner",
        "berths",
        210,
        pins=("certs/id-2025.pem",),
        claims=(Claim("mail", ('need = "should"',)),),
        unsolicited=False,
        at_provider=AtProvider(attributes={"mail": ["{email}"]}),
        lines=Lines(account=('column = "user"',)),
    ),
    Application(
        "fuel-ledger",
        "Fuel Ledger",
        "fuel",
        64,
        pins=("sha256 of certs/id-2025.pem",),
        people=tuple(PEOPLE),
        at_provider=AtProvider(signed_part="response"),
        lines=Lines(account=("rewrite = [{ drop_domain = true }]",)),
    ),
    Application(
        "ticket-desk",
        "Ticket Desk",
        "desk",
        620,
        claims=(
            Claim(
                "groups",
                ('need = "must"', 'kind = "groups"', "[claims.maps]", '"grp-desk" = "agent"', '"grp-staff" = "reader"'),
            ),
        ),
        at_provider=AtProvider(attributes={"groups": ["grp-staff", "grp-desk"]}),
    ),
    Application(
        "chart-room",
        "Chart Room",
        "charts",
        95,
        pins=("certs/id-2026.pem",),
        lines=Lines(application=('clock_skew = "2m"',)),
    ),
    Application(
        "claims-office",
        "Claims Office",
        "claims",
        33,
        people=(*PEOPLE, *GUESTS),
        claims=(Claim("displayName", ('need = "may"',)),),
        at_provider=AtProvider(
            assigned=("grp-staff", "nils.lunde@skerry-pilots.example"), attributes={"displayName": ["{email}"]}
        ),
        lines=Lines(
            account=('rewrite = [{ case = "lower" }]',),
            subject=(
                ('when = "guest"', 'from = "login"'),
                ('from = "login"', f'rewrite = [{{ add_suffix = "@{HOME}" }}]'),
            ),
        ),
    ),
    Application(
        "galley-orders",
        "Galley Orders",
        "galley",
        150,
        claims=(Claim("role", ('need = "must"', 'one_of = ["cook", "purser"]')),),
        at_provider=AtProvider(attributes={"role": ["cook"]}),
        lines=Lines(
            application=("password_sign_in = true",),
            accepted=(
                'code = "password-sign-in-open"',
                'reason = "kept for the ships without a link until spring"',
                "until = 2027-03-31",
            ),
        ),
    ),
    Application(
        "cargo-manifest",
        "Cargo Manifest",
        "cargo",
        88,
        metadata=True,
        claims=(Claim("mail", ('need = "must"',)),),
        at_provider=AtProvider(encrypted=True, attributes={"mail": ["{email}"]}),
        lines=Lines(application=('decryption_key = "keys/cargo-manifest.key"',)),
    ),
    Application(
        "tide-tables",
        "Tide Tables",
        "tides",
        41,
        claims=(Claim("displayName", ('need = "should"',)),),
        at_provider=AtProvider(audience=f"https://tides.{HOME}/saml/acs", attributes={"displayName": ["{email}"]}),
    ),
    Application(
        "quay-passes",
        "Quay Passes",
        "quay",
        310,
        metadata=True,
        claims=(_ROLE,),
        at_provider=AtProvider(attributes={"role": ["deckhand"]}),
        lines=Lines(application=("signs_requests = true", f'sign_out_url = "https://quay.{HOME}/saml/slo"')),
    ),
    Application(
        "harbour-radio",
        "Harbour Radio",
        "radio",
        27,
        pins=("certs/id-2026.pem",),
        claims=(Claim("department", ('need = "must"',)),),
        at_provider=AtProvider(attributes={"http://schemas.northmere.example/claims/department": ["harbour"]}),
    ),
    Application(
        "lost-property",
        "Lost Property",
        "found",
        18,
        claims=(Claim("department", ('need = "must"',)),),
        at_provider=AtProvider(assigned=("l.plover@northmere.example",), attributes={"department": ["harbour"]}),
    ),
    Application("shore-tours", "Shore Tours", "tours", 120, pins=("certs/id-2026.pem",), site=SHORE),
    Application("pilot-rota", "Pilot Rota", "rota", 140),
    Application("ice-charts", "Ice Charts", "ice", 75),
    Application("dry-dock", "Dry Dock", "drydock", 52),
    Application("fog-signals", "Fog Signals", "fog", 0),
)
BY_ID = {application.id: application for application in APPLICATIONS}
NAME_ID_FORMAT = EMAIL
