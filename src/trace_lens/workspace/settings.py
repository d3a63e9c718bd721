"""The shape of the settings files: one record a table, fields in the order of the documentation.

A field is spelled in the file as here, unless it is marked `Spelled` otherwise. `trace_lens.workspace.validation` makes
the pydantic models from these records; `read_table` fills a record from a table that is known to be valid, so that
settings seen before need no validation again.
"""

import re
from collections.abc import Callable, Mapping
from datetime import date, datetime, timedelta
from functools import cache
from types import UnionType
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin

from trace_lens.common.moments import read_duration
from trace_lens.common.tuples import NamedTuple

T = TypeVar("T")


class Spelled(NamedTuple):
    """Marks a field whose key in the file is another word than its name here."""

    key: str


SAME_TABLE = "same table"
DURATION = "duration"
STORE = "store"
SECONDS = "seconds or duration"
ONE_OR_MORE = "one or more"
PATTERN = "regular expression"
ZONE = "time zone"
ENCODING = "encoding"
CHARACTER = "one character"

Duration = Annotated[timedelta | None, DURATION]
StoreName = Annotated[str, STORE]
Age = Annotated[timedelta | None, SECONDS]
Pattern = Annotated[str | None, PATTERN]
Texts = tuple[str, ...]
OneOrMore = Annotated[tuple[str, ...], ONE_OR_MORE]
Day = date | datetime | str | None


class Judgement(NamedTuple):
    """How strictly times are judged: in `[application]`, at the head of `apps/NAME.toml`, and in `trace-lens.toml`.

    What is nearer to the application counts.
    """

    clock_skew: Duration = None
    warn_before: Duration = None
    longest_validity: Duration = None
    checks_certificate_dates: bool | None = None


class WorkspaceSettings(NamedTuple):
    """`trace-lens.toml`."""

    judgement: Annotated[Judgement, SAME_TABLE] = Judgement()
    store: StoreName = "duckdb"


class Most(NamedTuple):
    """The most groups that fit, by how the message travels."""

    assertion: int | None = None
    token: int | None = None
    url: int | None = None


class ProviderSettings(NamedTuple):
    """`providers/NAME.toml`."""

    name: str | None = None
    metadata: str | None = None
    entity_id: str | None = None
    discovery: str | None = None
    key_set: str | None = None
    issuer: str | None = None
    email_domains: Texts = ()
    certificates: Texts = ()
    left_out_markers: Texts = ()
    most_groups: Most = Most()
    guest_pattern: Pattern = None
    domain_proof: str | None = None


class Rewrite(NamedTuple):
    """One step of a rewriting rule: exactly one of its forms."""

    drop_domain: bool | None = None
    case: Literal["lower", "upper"] | None = None
    replace: Pattern = None
    replacement: Annotated[str | None, Spelled("with")] = None
    add_suffix: str | None = None
    add_prefix: str | None = None


class SubjectRule(NamedTuple):
    """`[[provider_setup.subject]]`: how the provider makes the name."""

    source: Annotated[str, Spelled("from")]
    when: Literal["guest", "member", "any"] = "any"
    rewrite: tuple[Rewrite, ...] = ()


class Pages(NamedTuple):
    """`[application.pages]`: how to tell the application's pages apart, by plain text or, from / or https:// on, by
    address.
    """

    signed_in: Texts = ()
    signed_out: Texts = ()


class SamlServiceProvider(NamedTuple):
    """The part of `[application]` that SAML uses: the application as a service provider."""

    metadata: str | None = None
    entity_id: str | None = None
    acs_urls: Texts = ()
    provider_entity_id: str | None = None
    trusted_certificates: Texts = ()
    seen_certificates: Texts = ()
    trust_from: Literal["pinned", "metadata"] | None = None
    name_id_format: str | None = None
    signed_part: Literal["response", "assertion", "both", "either"] = "either"
    accepts_unsolicited: bool | None = None
    relay_state: str | None = None
    signs_requests: bool | None = None
    authn_contexts: Texts = ()


class OidcClient(NamedTuple):
    """The part of `[application]` that OpenID Connect uses: the application as a client."""

    client_id: str | None = None
    redirect_uris: Texts = ()
    response_type: str | None = None
    response_mode: str | None = None
    scopes: Texts = ()
    client_authentication: str | None = None
    secret_expires: Day = None
    provider_issuer: str | None = None
    discovery_url: str | None = None
    token_algorithm: OneOrMore = ()
    max_age: Age = None
    acr_values: Texts = ()
    api_audience: OneOrMore = ()
    api_scopes: Texts = ()
    public: bool | None = None
    requires_pkce: bool | None = None
    subject_type: str | None = None


class Application(NamedTuple):
    """`[application]`: what is set in the application."""

    saml: Annotated[SamlServiceProvider, SAME_TABLE] = SamlServiceProvider()
    oidc: Annotated[OidcClient, SAME_TABLE] = OidcClient()
    sign_in_url: str | None = None
    provider_sso_url: str | None = None
    sign_out_url: str | None = None
    email_domains: Texts = ()
    decryption_key: str | None = None
    password_sign_in: bool | None = None
    session_cookie: str | None = None
    pages: Pages = Pages()
    judgement: Annotated[Judgement, SAME_TABLE] = Judgement()


class ProviderSetup(NamedTuple):
    """`[provider_setup]`: what is set for this application at the provider."""

    audience: str | None = None
    acs_url: str | None = None
    name_id_format: str | None = None
    assigned: str | None = None
    subject: tuple[SubjectRule, ...] = ()
    client_id: str | None = None
    redirect_uris: Texts = ()
    scopes_granted: Texts = ()
    consent: Literal["given", "per-user", "none"] | None = None
    claims_released: Texts = ()


class Account(NamedTuple):
    """`[account]`: how the application finds the account."""

    source: Annotated[str, Spelled("from")] = "NameID"
    compare: Literal["exact", "ignore-case"] = "exact"
    rewrite: tuple[Rewrite, ...] = ()
    list_file: Annotated[str | None, Spelled("list")] = None
    column: str | None = None
    groups: str | None = None
    created_at_first_sign_in: bool = False
    creates_from: Literal["application", "provider", "both"] = "both"


@cache
def _meaning(name: str) -> str:
    last = re.split(r"[/:#.]", name.lower())[-1]
    return {"role": "role", "roles": "role", "groups": "groups", "group": "groups"}.get(last, "plain")


class Claim(NamedTuple):
    """`[[claims]]`: one claim that the application reads."""

    name: str
    need: Literal["must", "should", "may"] = "must"
    one_of: Texts = ()
    elevated: Texts = ()
    default_role: str | None = None
    kind: Literal["role", "groups", "plain"] | None = None
    single: bool = False
    also_as: Texts = ()
    maps: dict[str, str] = {}  # noqa: RUF012  an empty default that nothing writes to

    @property
    def means(self) -> str:
        """`role`, `groups` or `plain`: as set, else as its name tells."""
        return self.kind or _meaning(self.name)


class Accepted(NamedTuple):
    """`[[accepted]]`: a risk that was agreed to."""

    code: str
    reason: str
    until: Day = None


class AppSettings(NamedTuple):
    """`apps/NAME.toml`."""

    name: str | None = None
    protocol: Literal["saml", "oidc"] = "saml"
    kind: Literal["api"] | None = None
    provider: str | None = None
    owner: str | None = None
    users: int | None = None
    application: Application = Application()
    provider_setup: ProviderSetup = ProviderSetup()
    account: Account = Account()
    claims: tuple[Claim, ...] = ()
    accepted: tuple[Accepted, ...] = ()
    judgement: Annotated[Judgement, SAME_TABLE] = Judgement()


REQUIRED = object()
"""The default of a field that must be set."""


class Field(NamedTuple):
    """One field of a record, taken apart: its key in the file, its marks, its bare type and its default.

    `record` is the record of a nested table (or of each of several, where `many`, or by name, where `keyed`).
    """

    name: str
    key: str
    marks: tuple[str, ...]
    type: Any
    record: Any
    many: bool
    default: Any
    keyed: bool = False


@cache
def fields_of(record: Any) -> tuple[Field, ...]:
    """The keys of a record's table, in order; those of a part that is kept in the same table among them."""
    keys: list[Field] = []
    for field in _own_fields(record):
        keys += fields_of(field.record) if SAME_TABLE in field.marks else (field,)
    return tuple(keys)


@cache
def _own_fields(record: Any) -> tuple[Field, ...]:
    return tuple(
        _field(name, annotation, record._field_defaults.get(name, REQUIRED))
        for name, annotation in record.__annotations__.items()
    )


def is_record(kind: Any) -> bool:
    """Whether a type is one of the records of this module."""
    return isinstance(kind, type) and issubclass(kind, tuple) and hasattr(kind, "_fields")


def _field(name: str, annotation: Any, default: Any) -> Field:
    key, marks = name, []
    if get_origin(annotation) is Annotated:
        annotation, *extras = get_args(annotation)
        for extra in extras:
            if isinstance(extra, Spelled):
                key = extra.key
            else:
                marks.append(extra)
    keyed = get_origin(annotation) is dict
    parts = get_args(annotation) if keyed or get_origin(annotation) in (tuple, Union, UnionType) else ()
    record = annotation if is_record(annotation) else next((part for part in parts if is_record(part)), None)
    many = get_origin(annotation) is tuple
    return Field(name, key, tuple(marks), annotation, record, many, default, keyed=keyed and record is not None)


def read_table(record: Callable[..., T], raw: Mapping[str, Any]) -> T:
    """A record from a table that is known to be valid."""
    values = {}
    for field in _own_fields(record):
        if SAME_TABLE in field.marks:
            values[field.name] = read_table(field.record, raw)
        elif field.key in raw:
            values[field.name] = _value(field, raw[field.key])
    return record(**values)


def _value(field: Field, value: Any) -> Any:
    if field.keyed:
        return {name: read_table(field.record, item) for name, item in value.items()}
    if field.record:
        return (
            tuple(read_table(field.record, item) for item in value) if field.many else read_table(field.record, value)
        )
    if DURATION in field.marks or SECONDS in field.marks:
        return read_duration(value) if isinstance(value, str) else timedelta(seconds=value)
    if isinstance(value, str) and ONE_OR_MORE in field.marks:
        return (value,)
    return tuple(value) if field.many else value
