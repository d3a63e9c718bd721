"""The case of a SAML sign-in: what was captured of it, opened, verified and read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import ClassVar

from trace_lens.attempts.saml import SamlAttempt
from trace_lens.attempts.saml_messages import SamlMessage
from trace_lens.checks.case import Case, Need, Sent
from trace_lens.checks.saml.decrypted import Decryption, assertions_of, open_one
from trace_lens.checks.saml.signed import KeysOnRecord, Signed, look_at_signatures
from trace_lens.common.findings import Allows, Evidence, lack
from trace_lens.common.personal import personal
from trace_lens.common.sentences import Person
from trace_lens.saml.messages import (
    Assertion,
    Attribute,
    AuthnRequest,
    Encrypted,
    Instant,
    Located,
    NameID,
    Response,
    SubjectConfirmation,
)
from trace_lens.saml.names import ASSERTION_11, BEARER, SUCCESS
from trace_lens.saml.reading import read_attribute, read_name_id
from trace_lens.workspace import trust
from trace_lens.workspace.trust import RecordedKey


@dataclass(frozen=True, eq=False, repr=False)
class SamlCase(Case):
    """A SAML sign-in or sign-out, or one by WS-Federation with a SAML assertion in it."""

    attempt: SamlAttempt
    protocol: ClassVar[str] = "saml"
    subject_label: ClassVar[str] = "NameID"
    address_label: ClassVar[str] = "destination"
    main_source: ClassVar[str] = "assertion"

    @cached_property
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
    def openings(self) -> tuple[Decryption, ...]:
        """The encrypted assertions of the response, opened as far as the application's key opens them."""
        encrypted = self.response.encrypted_assertions if self.response else ()
        return tuple(open_one(sealed, self.app, self.workspace) for sealed in encrypted)

    @cached_property
    def assertions(self) -> tuple[Assertion, ...]:
        """The assertions in the normal place: the response's own, those that were opened, or the one captured alone."""
        if self.response is None:
            return (self.attempt.assertion,) if self.attempt.assertion else ()
        return (*self.response.assertions, *assertions_of(self.openings))

    @cached_property
    def keys(self) -> KeysOnRecord:
        """The keys that the provider's signatures are held against."""
        implied = not self.pins or bool(self.app and self.app.settings.application.saml.trust_from == "metadata")
        return KeysOnRecord(self.pins, self.published_keys, implied, self.workspace)

    @cached_property
    def keys_of_application(self) -> KeysOnRecord:
        """The keys that the application's signatures are held against: those in its metadata."""
        own = trust.own_keys(self.app, self.workspace) if self.app else ()
        return KeysOnRecord(own, own, False, self.workspace)

    @cached_property
    def pins(self) -> tuple[RecordedKey, ...]:
        """What the application pins, damaged entries among them."""
        return trust.pinned(self.app, self.workspace) if self.app else ()

    @property
    def implied_trust(self) -> bool:
        """Whether the provider's published keys are trusted, since nothing is pinned or metadata is fetched."""
        return self.keys.implied

    @cached_property
    def published_keys(self) -> tuple[RecordedKey, ...]:
        """The keys that the provider publishes."""
        return trust.published(self.provider, self.workspace) if self.provider else ()

    @cached_property
    def signed(self) -> Signed:
        """The message's signatures, held against the keys on record."""
        return look_at_signatures(self.attempt.main, self.response, self.assertions, self.openings, self.keys)

    @cached_property
    def assertion(self) -> Assertion | None:
        """The assertion that is judged: the signed one, where any is."""
        return self.signed.judged

    @cached_property
    def bearer(self) -> SubjectConfirmation | None:
        """The bearer confirmation that is judged: the first that holds as a whole, else the one with the least against
        it.

        One that holds is enough (SAML 2.0 Profiles §4.1.4.3).
        """
        subject = self.assertion.subject if self.assertion else None
        found = (
            [
                confirmation
                for confirmation in subject.confirmations
                if confirmation.method and confirmation.method.value == BEARER
            ]
            if subject
            else []
        )
        return min(found, key=self._against, default=None)

    def _against(self, confirmation: SubjectConfirmation) -> int:
        """How much speaks against a confirmation: its form, its recipient, its window, the request that it answers."""
        data = confirmation.data
        if data is None:
            return 9
        acs = self.app.acs_urls if self.app else ()
        begins, ends = data.not_before, data.not_on_or_after
        asked = self.request.id.value if self.request and self.request.id else None
        late = (
            self.at is not None and ends is not None and ends.moment is not None and self.at >= ends.moment + self.skew
        )
        return (
            (data.recipient is None)
            + (ends is None)
            + (begins is not None)
            + late
            + bool(data.recipient and acs and data.recipient.value not in acs)
            + bool(asked and data.in_response_to and data.in_response_to.value != asked)
        )

    @cached_property
    def name_opening(self) -> Decryption | None:
        """The subject's encrypted name, opened as far as that goes; None where the name is not encrypted."""
        subject = self.assertion.subject if self.assertion else None
        return open_one(subject.encrypted_id, self.app, self.workspace) if subject and subject.encrypted_id else None

    @cached_property
    def attribute_openings(self) -> tuple[Decryption, ...]:
        """The encrypted attributes, opened as far as that goes."""
        encrypted = self.assertion.encrypted_attributes if self.assertion else ()
        return tuple(open_one(sealed, self.app, self.workspace) for sealed in encrypted)

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
        if self.bearer and self.bearer.data:
            found.append(self.bearer.data.in_response_to)
        return tuple(value for value in found if value is not None)

    @cached_property
    def attributes(self) -> dict[str, list[Attribute]]:
        """The judged assertion's attributes by name; a name may stand more than once."""
        found: dict[str, list[Attribute]] = {}
        opened = [read_attribute(opening.root) for opening in self.attribute_openings if opening.root is not None]
        for attribute in (*(self.assertion.attributes if self.assertion else ()), *opened):
            found.setdefault(self._name_of(attribute), []).append(attribute)
        return found

    def _name_of(self, attribute: Attribute) -> str:
        """The name of an attribute; one of SAML 1.1 goes by its bare name where the application reads that one."""
        if not self.is_saml_11 or self.app is None or attribute.friendly_name is None:
            return attribute.name
        settings = self.app.settings
        read = {settings.account.source, *(name for claim in settings.claims for name in (claim.name, *claim.also_as))}
        return attribute.friendly_name if attribute.friendly_name in read else attribute.name

    @property
    def issuer_name(self) -> str | None:
        """The issuer's entity ID, as the message writes it."""
        return self.issuer.value if self.issuer else None

    @property
    def issuer_evidence(self) -> list[Evidence]:
        """Where the issuer stands."""
        return self.shown("Issuer", self.issuer)

    @property
    def subject(self) -> Sent | None:
        """The NameID, unless it is empty."""
        name = self.name_id
        if name is None or not name.value.strip():
            return None
        return Sent(Person(name.value), lambda label: self.shown(label, name))

    @property
    def name_closed(self) -> bool:
        """Whether the NameID is encrypted and could not be opened."""
        return self.name_id is None and self.name_opening is not None

    @cached_property
    def said(self) -> Mapping[str, tuple[str, ...]]:
        """The attributes by name, all values of each in order; a value that is nil counts as empty."""
        return {
            name: tuple(
                "" if value.nil else (value.name_id.value if value.name_id else value.text.value)
                for attribute in found
                for value in attribute.values
            )
            for name, found in self.attributes.items()
        }

    def evidence_of(self, name: str) -> list[Evidence]:
        """Where the first value of an attribute stands."""
        for attribute in self.attributes.get(name, ())[:1]:
            for value in attribute.values[:1]:
                return self.shown(attribute.name, value.text)
        return []

    def also_called(self, name: str) -> tuple[str, ...]:
        """The friendly names of an attribute."""
        return tuple(attribute.friendly_name for attribute in self.attributes.get(name, ()) if attribute.friendly_name)

    @property
    def most_groups(self) -> int | None:
        """The most groups that fit into an assertion."""
        return self.provider.settings.most_groups.assertion if self.provider else None

    @property
    def made_at(self) -> list[datetime]:
        """When assertion and response were issued."""
        told = [response.issue_instant for response in (self.assertion, self.response) if response]
        return [instant.moment for instant in told if instant and instant.moment]

    def lacks(self, need: Need) -> str | None:
        """Why a question that needs the message, its assertion or a signature cannot be asked; None where it can."""
        if need is Need.NOTHING:
            return None
        if need is Need.WAY:
            return None if self.attempt.way else lack("the capture does not show the way", Allows.RECORDING)
        if self.attempt.damage:
            return "the message could not be read"
        if need is Need.REQUEST:
            return None if self.request else lack("the request is not in this capture", Allows.RECORDING)
        if need is Need.SIGN_OUT:
            return None if self.attempt.sign_out else lack("no sign-out is in this capture", Allows.RECORDING)
        if self.attempt.answer is None:
            kind = self.attempt.kind
            return (
                lack(
                    "only the artifact was captured; the message that it refers to went from server to server",
                    Allows.SERVER_MESSAGE,
                )
                if kind == "artifact"
                else lack("the answer to the request is not in this capture", Allows.RECORDING)
            )
        if need is Need.SIGNATURE and not self.signed.verdicts:
            return "the message holds no signature"
        if need in (Need.MESSAGE, Need.SIGNATURE) or self.assertion:
            return None
        if self.refused:
            return "the provider sent an error and no assertion"
        if self.closed:
            return "the assertion is encrypted and could not be opened"
        return "the response holds no assertion"

    def shown(
        self, label: str, value: Located[str] | NameID | Instant | None, message: SamlMessage | None = None
    ) -> list[Evidence]:
        """A value of a message (the one judged, where none is named) as evidence; nothing where it is not there."""
        if value is None:
            return []
        located = value if isinstance(value, Located) else value.text
        holder = message or self.attempt.main
        text = Person(located.value) if isinstance(value, NameID) else personal(label, located.value)
        return [Evidence(label, text, holder.source, holder.place.then(located.where), exchange=holder.exchange)]

    def asked(self, label: str, value: Located[str] | NameID | Instant | None) -> list[Evidence]:
        """A value of the request as evidence."""
        return self.shown(label, value, self.attempt.request)
