"""The case that the checks look at: one attempt, the two sides' settings, the moment, and what was signed.

It answers where a value came from and makes findings with the catalogue's words; it judges nothing itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import TypeVar, cast

from trace_lens.attempts.assembly import Attempt
from trace_lens.attempts.reading import Message
from trace_lens.checks.decrypted import Opening, assertions_of, open_one
from trace_lens.checks.signed import Signed, look_at_signatures
from trace_lens.common import catalogue
from trace_lens.common.difference import difference
from trace_lens.common.findings import Evidence, Finding, Severity, Side, Stage
from trace_lens.saml.messages import Assertion, Attribute, AuthnRequest, Encrypted, Instant, Located, NameID, Response
from trace_lens.saml.names import ASSERTION_11, SUCCESS
from trace_lens.saml.reading import read_attribute, read_name_id
from trace_lens.workspace import trust
from trace_lens.workspace.loading import App, Provider, Workspace
from trace_lens.workspace.trust import RecordedKey

T = TypeVar("T")


@dataclass(frozen=True)
class Case:
    """Everything that a check may ask about.

    `at` is the moment that times are judged at and `at_from` what told it (`option`, `capture`, `log`, `message`);
    both are None where nothing tells. `now` serves only what asks about today. `supposed` are settings that are only
    tried, by key: where one of the provider's is, the message counts as sent by it.
    """

    attempt: Attempt
    workspace: Workspace
    app: App | None
    provider: Provider | None
    chosen_by: str | None
    at: datetime | None
    at_from: str | None
    now: datetime
    candidates: tuple[str, ...] = ()
    supposed: dict[str, str] = field(default_factory=dict)
    _kept: dict[str, object] = field(default_factory=dict, compare=False, repr=False)

    def once(self, key: str, make: Callable[[], T]) -> T:
        """What `make` gives, made once for this case and key."""
        if key not in self._kept:
            self._kept[key] = make()
        return cast("T", self._kept[key])

    @property
    def response(self) -> Response | None:
        """The response, where one was captured."""
        return self.attempt.response

    @cached_property
    def request(self) -> AuthnRequest | None:
        """What the application asked, where its request was captured."""
        return self.attempt.authn_request

    @property
    def is_saml_11(self) -> bool:
        """Whether the assertion is one of SAML 1.1, as WS-Federation carries it."""
        return bool(self.assertion and self.assertion.element.tag == f"{{{ASSERTION_11}}}Assertion")

    @property
    def is_ws_federation(self) -> bool:
        """Whether the answer is a WS-Federation sign-in response, for which the rules of SAML's profile do not hold."""
        return self.attempt.found.kind == "ws-federation-response" or self.is_saml_11

    @cached_property
    def openings(self) -> tuple[Opening, ...]:
        """The encrypted assertions of the response, opened as far as the application's key opens them."""
        encrypted = self.response.encrypted_assertions if self.response else ()
        return tuple(open_one(self, one) for one in encrypted)

    @cached_property
    def assertions(self) -> tuple[Assertion, ...]:
        """The assertions in the normal place: the response's own, those that were opened, or the one captured alone."""
        if self.response is None:
            return (self.attempt.assertion,) if self.attempt.assertion else ()
        return (*self.response.assertions, *assertions_of(self.openings))

    @cached_property
    def pins(self) -> tuple[RecordedKey, ...]:
        """What the application pins, damaged entries among them."""
        return trust.pinned(self.app, self.workspace) if self.app else ()

    @property
    def implied_trust(self) -> bool:
        """Whether the provider's published keys are trusted, since nothing is pinned or metadata is fetched."""
        return not self.pins or bool(self.app and self.app.settings.application.trust_from == "metadata")

    @cached_property
    def published_keys(self) -> tuple[RecordedKey, ...]:
        """The keys that the provider publishes."""
        return trust.published(self.provider, self.workspace) if self.provider else ()

    @property
    def signed_pins(self) -> tuple[RecordedKey, ...]:
        """The pins that count: none where trust is implied."""
        return () if self.implied_trust else self.pins

    @property
    def trusted_keys(self) -> tuple[RecordedKey, ...]:
        """The keys that a signature of the provider is judged by."""
        keys = self.published_keys if self.implied_trust else self.pins
        return tuple(key for key in keys if key.certificate or key.fingerprint)

    @cached_property
    def signed(self) -> Signed:
        """The message's signatures, held against the keys on record."""
        return look_at_signatures(self)

    @cached_property
    def assertion(self) -> Assertion | None:
        """The assertion that is judged: the signed one, where any is."""
        return self.signed.judged

    @cached_property
    def name_opening(self) -> Opening | None:
        """The subject's encrypted name, opened as far as that goes; None where the name is not encrypted."""
        subject = self.assertion.subject if self.assertion else None
        return open_one(self, subject.encrypted_id) if subject and subject.encrypted_id else None

    @cached_property
    def attribute_openings(self) -> tuple[Opening, ...]:
        """The encrypted attributes, opened as far as that goes."""
        return tuple(open_one(self, one) for one in (self.assertion.encrypted_attributes if self.assertion else ()))

    @cached_property
    def name_id(self) -> NameID | None:
        """The subject's name identifier, opened where it was encrypted."""
        subject = self.assertion.subject if self.assertion else None
        if subject and subject.name_id:
            return subject.name_id
        opened = self.name_opening.root if self.name_opening else None
        return read_name_id(opened) if opened is not None else None

    @property
    def issuer(self) -> NameID | None:
        """Who issued what is judged: the assertion's issuer, else the response's."""
        if self.assertion and self.assertion.issuer:
            return self.assertion.issuer
        return self.response.issuer if self.response else None

    @property
    def refused(self) -> bool:
        """Whether the provider answered with an error instead of an assertion."""
        status = self.response.status if self.response else None
        return bool(status and status.codes and status.codes[0].value != SUCCESS)

    @property
    def closed(self) -> Encrypted | None:
        """An encrypted assertion that could not be opened, where there is no other."""
        if self.assertion is None and self.response and self.response.encrypted_assertions:
            return self.response.encrypted_assertions[0]
        return None

    @property
    def started_by(self) -> str | None:
        """`application` where the message answers a request, `provider` where it answers none."""
        if self.attempt.request is not None:
            return "application"
        if (self.response is None and self.assertion is None) or self.is_ws_federation:
            return None
        return "application" if self.request_ids else "provider"

    @property
    def request_ids(self) -> tuple[Located[str], ...]:
        """Every InResponseTo of the response and of the judged assertion's confirmations."""
        found = [self.response.in_response_to] if self.response else []
        if self.assertion and self.assertion.subject:
            found += [one.data.in_response_to for one in self.assertion.subject.confirmations if one.data]
        return tuple(one for one in found if one is not None)

    @cached_property
    def attributes(self) -> dict[str, list[Attribute]]:
        """The judged assertion's attributes by name; a name may stand more than once."""
        found: dict[str, list[Attribute]] = {}
        opened = [read_attribute(one.root) for one in self.attribute_openings if one.root is not None]
        for attribute in (*(self.assertion.attributes if self.assertion else ()), *opened):
            found.setdefault(self._name_of(attribute), []).append(attribute)
        return found

    def _name_of(self, attribute: Attribute) -> str:
        """The name of an attribute; one of SAML 1.1 goes by its bare name where the application reads that one."""
        if not self.is_saml_11 or self.app is None or attribute.friendly_name is None:
            return attribute.name
        settings = self.app.settings
        read = {settings.account.source, *(name for one in settings.claims for name in (one.name, *one.also_as))}
        return attribute.friendly_name if attribute.friendly_name in read else attribute.name

    @cached_property
    def other_provider(self) -> Provider | None:
        """The provider on record, other than the application's own, whose issuer name the message bears."""
        if self.issuer is None:
            return None
        for provider in self.workspace.providers.values():
            if provider is not self.provider and self.issuer.value in provider.identifiers:
                return provider
        return None

    def lacks(self, need: str) -> str | None:
        """Why a question that needs the message, its assertion or a signature cannot be asked; None where it can."""
        if not need:
            return None
        if self.attempt.damage:
            return "the message could not be read"
        if need == "request":
            return None if self.request else "the request is not in this capture"
        if need == "sign-out":
            return None if self.attempt.sign_out else "no sign-out is in this capture"
        if self.attempt.answer is None:
            kind = self.attempt.kind
            return (
                "only the artifact was captured; the message that it stands for went from server to server"
                if kind == "artifact"
                else "the answer to the request is not in this capture"
            )
        if need == "signature" and not self.signed.verdicts:
            return "the message holds no signature"
        if need in ("message", "signature") or self.assertion:
            return None
        if self.refused:
            return "the provider sent an error and no assertion"
        if self.closed:
            return "the assertion is encrypted and could not be opened"
        return "the response holds no assertion"

    def finding(
        self,
        code: str,
        stage: Stage,
        detail: str,
        *,
        severity: Severity | None = None,
        side: Side | None = None,
        expected: str | None = None,
        actual: str | None = None,
        value_to_set: str | None = None,
        remedy: str | None = None,
        reference: str | None = None,
        evidence: Iterable[Evidence] = (),
        compared: bool = True,
    ) -> Finding:
        """A finding in the catalogue's words; what is not given is the catalogue's.

        Where both an expected and an actual value are given, their difference is worked out, unless they are not of
        a kind that is `compared` to the letter (moments, lists).
        """
        entry = catalogue.entry(code, stage)
        side = side or entry.side
        found = difference(expected, actual) if compared and expected is not None and actual is not None else None
        return Finding(
            code=code,
            stage=stage,
            severity=severity or entry.severity,
            title=entry.title,
            detail=detail,
            side=side,
            remedy=remedy or entry.remedies.get(side) or next(iter(entry.remedies.values())),
            reference=reference or entry.reference,
            expected=expected,
            actual=actual,
            difference=found.kind if found else None,
            value_to_set=value_to_set,
            evidence=tuple(evidence),
        )

    def shown(
        self, label: str, value: Located[str] | NameID | Instant | None, message: Message | None = None
    ) -> list[Evidence]:
        """A value of a message (the one judged, where none is named) as evidence; nothing where it is not there."""
        if value is None:
            return []
        located = value if isinstance(value, Located) else value.text
        holder = message or self.attempt.main
        return [Evidence(label, located.value, holder.source, holder.place + located.where)]

    def asked(self, label: str, value: Located[str] | NameID | Instant | None) -> list[Evidence]:
        """A value of the request as evidence."""
        return self.shown(label, value, self.attempt.request)

    def set_in_app(self, label: str, value: str, *path: str | int) -> Evidence:
        """A setting of the application as evidence."""
        if self.app is None:
            return Evidence(label, value, "", "")
        return Evidence(label, value, self.app.source.file, self.app.source.where(*path))
