"""The shape of the settings files, as pydantic models: one model a table, keys spelled as the files spell them."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from trace_lens.common.moments import read_duration


def _duration(value: Any) -> Any:
    return read_duration(value) if isinstance(value, str) else value


def _seconds_or_duration(value: Any) -> Any:
    if isinstance(value, int) and not isinstance(value, bool):
        return timedelta(seconds=value)
    return _duration(value)


def _as_list(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


def _pattern(value: Any) -> Any:
    if isinstance(value, str):
        try:
            re.compile(value)
        except re.error as error:
            raise ValueError(f"{value!r} is not a regular expression: {error}") from None
    return value


Duration = Annotated[timedelta, BeforeValidator(_duration)]
Age = Annotated[timedelta, BeforeValidator(_seconds_or_duration)]
OneOrMore = Annotated[list[str], BeforeValidator(_as_list)]
Pattern = Annotated[str, BeforeValidator(_pattern)]
Day = date | datetime | str


class Table(BaseModel):
    """What all tables share: unknown keys are errors, values are not coerced, nothing changes afterwards."""

    model_config = ConfigDict(
        extra="forbid", frozen=True, strict=True, defer_build=True, populate_by_name=True, hide_input_in_errors=True
    )


class Judgement(Table):
    """Keys that the workspace sets for all and an application for itself."""

    clock_skew: Duration | None = None
    warn_before: Duration | None = None
    longest_validity: Duration | None = None
    checks_certificate_dates: bool | None = None


class WorkspaceSettings(Judgement):
    """`trace-lens.toml`."""

    store: str = "duckdb"


class Most(Table):
    """The most groups that fit, by how the message travels."""

    assertion: int | None = None
    token: int | None = None
    url: int | None = None


class ProviderSettings(Table):
    """`providers/NAME.toml`."""

    name: str | None = None
    metadata: str | None = None
    entity_id: str | None = None
    discovery: str | None = None
    key_set: str | None = None
    issuer: str | None = None
    email_domains: list[str] = []
    certificates: list[str] = []
    left_out_markers: list[str] = []
    most_groups: Most = Most.model_construct()
    guest_pattern: Pattern | None = None

    @model_validator(mode="after")
    def _guest_groups(self) -> ProviderSettings:
        if self.guest_pattern and not {"local", "domain"} <= set(re.compile(self.guest_pattern).groupindex):
            raise ValueError("guest_pattern needs the named groups (?P<local>…) and (?P<domain>…)")
        return self


class Rewrite(Table):
    """One step of a rewriting rule: exactly one of its forms."""

    drop_domain: bool | None = None
    case: Literal["lower", "upper"] | None = None
    replace: Pattern | None = None
    replacement: str | None = Field(None, alias="with")
    add_suffix: str | None = None
    add_prefix: str | None = None

    @model_validator(mode="after")
    def _one_form(self) -> Rewrite:
        forms = (self.drop_domain, self.case, self.replace, self.add_suffix, self.add_prefix)
        if sum(form is not None for form in forms) != 1:
            raise ValueError("a step holds exactly one of drop_domain, case, replace, add_suffix, add_prefix")
        if (self.replace is None) != (self.replacement is None):
            raise ValueError("replace and with go together")
        return self


class SubjectRule(Table):
    """`[[provider_setup.subject]]`: how the provider makes the name."""

    when: Literal["guest", "member", "any"] = "any"
    source: str = Field(alias="from")
    rewrite: list[Rewrite] = []


class Application(Judgement):
    """`[application]`: what is set in the application, for SAML and for OpenID Connect."""

    metadata: str | None = None
    entity_id: str | None = None
    acs_urls: list[str] = []
    sign_in_url: str | None = None
    sign_out_url: str | None = None
    provider_entity_id: str | None = None
    provider_sso_url: str | None = None
    trusted_certificates: list[str] = []
    trust_from: Literal["pinned", "metadata"] | None = None
    name_id_format: str | None = None
    signed_part: Literal["response", "assertion", "both", "either"] = "either"
    decryption_key: str | None = None
    accepts_unsolicited: bool | None = None
    relay_state: str | None = None
    email_domains: list[str] = []
    signs_requests: bool | None = None
    password_sign_in: bool | None = None
    client_id: str | None = None
    redirect_uris: list[str] = []
    response_type: str | None = None
    response_mode: str | None = None
    scopes: list[str] = []
    client_authentication: str | None = None
    secret_expires: Day | None = None
    provider_issuer: str | None = None
    discovery_url: str | None = None
    token_algorithm: OneOrMore = []
    max_age: Age | None = None
    acr_values: list[str] = []
    api_audience: OneOrMore = []
    requires_pkce: bool | None = None
    subject_type: str | None = None


class ProviderSetup(Table):
    """`[provider_setup]`: what is set for this application at the provider."""

    audience: str | None = None
    acs_url: str | None = None
    name_id_format: str | None = None
    assigned: str | None = None
    subject: list[SubjectRule] = []
    client_id: str | None = None
    redirect_uris: list[str] = []
    scopes_granted: list[str] = []
    consent: Literal["given", "per-user", "none"] | None = None
    claims_released: list[str] | None = None


class Account(Table):
    """`[account]`: how the application finds the account."""

    source: str = Field("NameID", alias="from")
    compare: Literal["exact", "ignore-case"] = "exact"
    rewrite: list[Rewrite] = []
    list_file: str | None = Field(None, alias="list")
    column: str | None = None
    groups: str | None = None
    created_at_first_sign_in: bool = False
    creates_from: Literal["application", "provider", "both"] = "both"


class Claim(Table):
    """`[[claims]]`: one claim that the application reads."""

    name: str
    need: Literal["must", "should", "may"] = "must"
    one_of: list[str] = []
    elevated: list[str] = []
    default_role: str | None = None
    kind: Literal["role", "groups", "plain"] | None = None
    single: bool = False
    also_as: list[str] = []
    maps: dict[str, str] = {}

    @property
    def means(self) -> str:
        """`role`, `groups` or `plain`: as set, else as its name tells."""
        if self.kind:
            return self.kind
        last = re.split(r"[/:#.]", self.name.lower())[-1]
        return {"role": "role", "roles": "role", "groups": "groups", "group": "groups"}.get(last, "plain")


class Accepted(Table):
    """`[[accepted]]`: a risk that was agreed to."""

    code: str
    reason: str
    until: Day | None = None


class AppSettings(Judgement):
    """`apps/NAME.toml`."""

    name: str | None = None
    protocol: Literal["saml", "oidc"] = "saml"
    provider: str | None = None
    owner: str | None = None
    users: int | None = None
    application: Application = Application.model_construct()
    provider_setup: ProviderSetup = ProviderSetup.model_construct()
    account: Account = Account.model_construct()
    claims: list[Claim] = []
    accepted: list[Accepted] = []
