"""The rows of a SAML application."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.agreement.pairs import Value
from trace_lens.agreement.rows import COLUMNS, Cell, Row, Sides
from trace_lens.checks.case import Case
from trace_lens.checks.claims import matches
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.difference import difference, is_near
from trace_lens.common.findings import Side
from trace_lens.common.locations import NOWHERE, Location
from trace_lens.common.secret_names import relay_words
from trace_lens.saml.messages import Instant, Located, NameID
from trace_lens.saml.metadata import Role
from trace_lens.saml.names import FORMAT_UNSPECIFIED, IDP_ROLE, SP_ROLE, short
from trace_lens.workspace import trust
from trace_lens.workspace.private_keys import certificate_key_print, decryption_key, own_print
from trace_lens.workspace.records import App, Workspace


class SamlSides(Sides):
    """The items of a SAML application: from the settings, the metadata and the capture."""

    def __init__(self, app: App, workspace: Workspace, case: Case | None) -> None:
        super().__init__(app, workspace)
        self.case = case if isinstance(case, SamlCase) else None

    def rows(self) -> Iterator[Row]:
        """All items, those that break sign-ins most often first."""
        yield self._identifier()
        yield self._acs()
        yield self._issuer()
        yield self._sign_on()
        yield self._sign_out(Side.APPLICATION)
        yield self._sign_out(Side.PROVIDER)
        yield self._format()
        yield self._certificates()
        yield self._encryption()
        yield self._signed_part()
        yield self._signed_requests()
        yield self._algorithms()
        yield self._relay_state()
        yield self._domains()
        yield from self._claims()

    def _in_metadata(self, whose: str, meant: str, *pairs: tuple[str, Location]) -> list[tuple[str, Value]]:
        file = self.mine.saml.metadata if whose == "application" else self.provider and self.provider.settings.metadata
        return [(f"{whose}_metadata", Value(meant, text, file or "", where)) for text, where in pairs]

    def _sp(self) -> Role | None:
        return self.app.entity.role(SP_ROLE) if self.app.entity else None

    def _idp(self) -> Role | None:
        return self.provider.entity.role(IDP_ROLE) if self.provider and self.provider.entity else None

    def _captured(self, *values: tuple[str, str | None, Location]) -> list[tuple[str, Value]]:
        """Values of the capture: label, text, place."""
        source = self.case.attempt.source if self.case else ""
        return [("capture", Value(label, text, source, where)) for label, text, where in values if text]

    def _shown(
        self, label: str, located: Located[str] | NameID | Instant | None, *, asked: bool = False
    ) -> list[tuple[str, Value]]:
        """A value of the message, or of the request, as a cell."""
        if self.case is None or located is None:
            return []
        shown = self.case.asked if asked else self.case.shown
        return [
            ("capture", Value(label, evidence.value, evidence.source, evidence.where, asked=asked))
            for evidence in shown(label, located)
        ]

    def _identifier(self) -> Row:
        assertion = self.case.assertion if self.case else None
        request = self.case.request if self.case else None
        entity = self.app.entity
        conditions = assertion.conditions if assertion else None
        cells = [
            *self._in_app("entity_id", self.mine.saml.entity_id),
            *self._at_provider("audience", self.setup.audience),
            *(self._in_metadata("application", "entityID", (entity.entity_id, entity.where)) if entity else []),
            *(
                cell
                for audience in (conditions.audiences if conditions else ())
                for cell in self._shown("Audience", audience)
            ),
            *self._shown("Issuer of the request", request.issuer if request else None, asked=True),
        ]
        return self._row("audience", "identifier of the application", Side.APPLICATION, cells)

    def _acs(self) -> Row:
        from trace_lens.checks.saml.delivered import bearers

        case = self.case
        role = self._sp()
        found = _places(role, "AssertionConsumerService")
        cells = [
            *self._in_app("acs_urls", *self.mine.saml.acs_urls),
            *self._at_provider("acs_url", self.setup.acs_url),
            *self._in_metadata("application", "AssertionConsumerService", *found),
        ]
        if case:
            cells += self._shown("Destination", case.response.destination if case.response else None)
            recipients = [bearer.data.recipient for bearer in bearers(case) if bearer.data]
            cells += [cell for recipient in recipients for cell in self._shown("Recipient", recipient)]
            asked = case.request.acs_url if case.request else None
            cells += self._shown("AssertionConsumerServiceURL of the request", asked, asked=True)
        return self._row("acs_url", "ACS URL", Side.APPLICATION, cells, some_of=True)

    def _issuer(self) -> Row:
        provider, entity = self.provider, self.provider.entity if self.provider else None
        cells = [
            *self._in_app("provider_entity_id", self.mine.saml.provider_entity_id),
            *self._of_provider("entity_id", provider.settings.entity_id if provider else None),
            *(self._in_metadata("provider", "entityID", (entity.entity_id, entity.where)) if entity else []),
            *self._shown("Issuer", self.case.issuer if self.case else None),
        ]
        return self._row("issuer", "identifier of the provider", Side.PROVIDER, cells)

    def _sign_on(self) -> Row:
        role = self._idp()
        found = _places(role, "SingleSignOnService")
        asked = self.case.request.destination if self.case and self.case.request else None
        cells = [
            *self._in_app("provider_sso_url", self.mine.provider_sso_url),
            *self._in_metadata("provider", "SingleSignOnService", *found),
            *self._shown("Destination of the request", asked, asked=True),
        ]
        return self._row("sso_url", "sign-on URL", Side.PROVIDER, cells, some_of=True)

    def _sign_out(self, whose: Side) -> Row:
        role = self._sp() if whose is Side.APPLICATION else self._idp()
        found = _places(role, "SingleLogoutService")
        cells = self._in_metadata(whose.value, "SingleLogoutService", *found)
        if whose is Side.APPLICATION:
            cells = [*self._in_app("sign_out_url", self.mine.sign_out_url), *cells]
        item = "sign_out_url" if whose is Side.APPLICATION else "provider_sign_out_url"
        return self._row(item, f"sign-out URL of the {whose.value}", whose, cells, some_of=True)

    def _format(self) -> Row:
        sp, idp = self._sp(), self._idp()
        wanted = self.mine.saml.name_id_format
        cells = [
            *self._in_app("name_id_format", wanted),
            *self._at_provider("name_id_format", self.setup.name_id_format),
            *self._shown_format(),
        ]
        row = self._row("name_id_format", "name identifier format", Side.APPLICATION, cells)
        if wanted == FORMAT_UNSPECIFIED:
            row = row._replace(cells=tuple(cell._replace(verdict="equal") for cell in row.cells))
        listed = [
            *self._in_metadata("application", "NameIDFormat", *_formats(sp)),
            *self._in_metadata("provider", "NameIDFormat", *_formats(idp)),
        ]
        counts = row.counts.text if row.counts else None
        offered = {column: [value.text for other, value in listed if other == column] for column, _ in listed}
        more = [
            Cell(column, value, "equal" if value.text == counts else "alone")
            for column, value in listed
            if value.text == counts or counts not in offered[column]
        ]
        return row._replace(cells=(*row.cells, *more))

    def _shown_format(self) -> list[tuple[str, Value]]:
        name = self.case.name_id if self.case else None
        policy = self.case.request.name_id_policy if self.case and self.case.request else None
        cells = []
        if name and self.case:
            attempt = self.case.attempt
            value = Value("Format of the NameID", name.format, attempt.source, attempt.place.then(name.text.where))
            cells.append(("capture", value))
        return [*cells, *self._shown("NameIDPolicy of the request", policy.format if policy else None, asked=True)]

    def _certificates(self) -> Row:
        """Pinned certificates against published ones; a pin of any published certificate is equal."""
        pins = trust.pinned(self.app, self.workspace)
        published = trust.published(self.provider, self.workspace) if self.provider else ()
        metadata = self.provider.settings.metadata if self.provider else None
        cells: list[Cell] = []
        known = [key.certificate for key in published if key.certificate]
        counts: Value | None = None
        for key in published:
            if key.certificate:
                column = "provider_metadata" if key.file == metadata else "provider"
                value = Value("signing certificate", str(key.certificate.sha256), key.file, key.where)
                counts = counts or value
                held = any(trust.pins((pin,), key.certificate) for pin in pins)
                cells.append(Cell(column, value, "equal" if held else "alone"))
        for pin in pins:
            text = str(pin.fingerprint or (pin.certificate.sha256 if pin.certificate else pin.problem))
            value = Value("trusted_certificates", text, pin.file, pin.where)
            fits = any(trust.pins((pin,), certificate) for certificate in known)
            left_over = any(trust.pins(pins, certificate) for certificate in known)
            verdict = "equal" if fits else "different" if known and not left_over else "alone"
            cells.append(Cell("application", value, verdict, None if fits else counts))
        for verdict_of in self.case.signed.own if self.case else ():
            certificate = verdict_of.certificate
            if certificate and self.case:
                trusted = verdict_of.standing == "trusted"
                place = self.case.attempt.place.then(verdict_of.place)
                value = Value("certificate in use", str(certificate.sha256), self.case.attempt.source, place)
                cells.append(Cell("capture", value, "equal" if trusted else "different", None if trusted else counts))
        cells.sort(key=lambda item: COLUMNS.index(item.column))
        return Row(
            item="certificates", words="signing certificate", owner=Side.PROVIDER, cells=tuple(cells), counts=counts
        )

    def _encryption(self) -> Row:
        role = self._sp()
        found = []
        for key in role.encryption_keys if role else ():
            print_of = certificate_key_print(key.certificate.der)
            if print_of:
                found.append((print_of, key.where))
        private = decryption_key(self.app, self.workspace)
        if private is None:
            return Row(item="encryption", words="encryption key", owner=Side.APPLICATION, cells=(), counts=None)
        own = own_print(self.app, private.public_key())
        cells = [*self._in_app("decryption_key", own), *self._in_metadata("application", "KeyDescriptor", *found)]
        return self._row("encryption", "encryption key", Side.APPLICATION, cells, some_of=False)

    def _signed_part(self) -> Row:
        case = self.case
        wanted = self.mine.saml.signed_part
        role = self._sp()
        have = "+".join(sorted({verdict.part for verdict in case.signed.own})) if case else ""
        sent = {"assertion+response": "both"}.get(have, have) or ("none" if case and case.assertion else "")
        cells = [Cell("application", value) for _, value in self._in_app("signed_part", wanted)]
        if role and role.wants_signed_assertions:
            cells += [
                Cell(column, value)
                for column, value in self._in_metadata(
                    "application", "WantAssertionsSigned", ("assertion", Location(path=SP_ROLE))
                )
            ]
        for column, value in self._captured(("signed in the capture", sent, Location(path="Signature"))):
            fits = sent != "none" and (wanted in ("either", sent) or sent == "both")
            verdict = "equal" if fits else "different"
            cells.append(Cell(column, value, verdict, None if fits else cells[0].value))
        return Row(
            item="signed_part",
            words="signed part",
            owner=Side.APPLICATION,
            cells=tuple(cells),
            counts=cells[0].value if cells else None,
        )

    def _signed_requests(self) -> Row:
        sp, idp = self._sp(), self._idp()
        signs = self.mine.saml.signs_requests
        cells = self._in_app("signs_requests", None if signs is None else str(signs).lower())
        if sp:
            cells += self._in_metadata(
                "application", "AuthnRequestsSigned", (str(sp.signs_requests).lower(), Location(path=SP_ROLE))
            )
        wants = idp.wants_signed_requests if idp else False
        if idp:
            cells += self._in_metadata(
                "provider", "WantAuthnRequestsSigned", (str(wants).lower(), Location(path=IDP_ROLE))
            )
        message = self.case.attempt.request if self.case else None
        if message and self.case:
            signed = message.detached is not None or (
                message.root is not None and message.root.find(".//{*}SignatureValue") is not None
            )
            cells.append(("capture", Value("request signed", str(signed).lower(), message.source, message.place)))
        if not wants:
            return Row(
                item="signs_requests",
                words="signed requests",
                owner=Side.PROVIDER,
                cells=tuple(Cell(*cell) for cell in cells),
                counts=None,
            )
        return self._row("signs_requests", "signed requests", Side.PROVIDER, cells)

    def _algorithms(self) -> Row:
        cells = []
        for verdict in self.case.signed.own if self.case else ():
            weak = f" (weak: {', '.join(verdict.signature.weak_parts)})" if verdict.signature.weak_parts else ""
            text = short(verdict.signature.algorithm_uri or "none") + weak
            cells += self._captured((f"signature of the {verdict.part}", text, verdict.place))
        return Row(
            item="algorithms",
            words="signature algorithm",
            owner=Side.PROVIDER,
            cells=tuple(Cell(*cell) for cell in cells),
            counts=None,
        )

    def _relay_state(self) -> Row:
        case = self.case
        default = self.mine.saml.relay_state
        cells = self._in_app("relay_state", default)
        came = case.attempt.relay_state if case and case.attempt.answer else None
        cells += self._captured(
            (
                "RelayState",
                came if came in (None, default) else relay_words(came),
                case.attempt.found.where if case else NOWHERE,
            )
        )
        if case and (case.request_ids or case.request):
            return Row(
                item="relay_state",
                words="relay state",
                owner=Side.APPLICATION,
                cells=tuple(Cell(*cell) for cell in cells),
                counts=None,
            )
        return self._row("relay_state", "relay state", Side.APPLICATION, cells)

    def _claims(self) -> Iterator[Row]:
        """Each claim that the application reads: its name, and what was sent for it; then its values."""
        requested = {}
        role = self._sp()
        for attribute in role.attributes if role else ():
            requested[attribute.name] = attribute
        sent = {match.position: match for match in matches(self.case)} if self.case and self.case.assertion else {}
        for position, claim in enumerate(self.app.settings.claims):
            place = self.app.source.where("claims", position)
            cells = [Cell("application", Value("claim", claim.name, self.app.source.file, place))]
            for name in (claim.name, *claim.also_as):
                if name in requested:
                    found = self._in_metadata("application", "RequestedAttribute", (name, requested[name].where))
                    cells += [Cell(column, value, "equal") for column, value in found]
            match = sent.get(position)
            if match and match.sent_as:
                verdict = "near" if match.near else "equal"
                against = cells[0].value if match.near else None
                for column, value in self._captured(("attribute", match.sent_as, Location(path="AttributeStatement"))):
                    how = difference(claim.name, match.sent_as) if match.near else None
                    cells.append(Cell(column=column, value=value, verdict=verdict, against=against, difference=how))
            yield Row(
                item=f"claim {claim.name}",
                words=f"claim {claim.name}",
                owner=Side.APPLICATION,
                cells=tuple(cells),
                counts=cells[0].value,
            )
            if claim.one_of:
                allowed = Value("one_of", ", ".join(claim.one_of), self.app.source.file, place)
                values = [Cell("application", allowed)]
                for text in match.mapped() if match else ():
                    one_of = ", ".join(claim.one_of)
                    fits = text in claim.one_of
                    for column, value in self._captured((claim.name, text, Location(path="AttributeStatement"))):
                        near = next((word for word in claim.one_of if is_near(word, text)), None)
                        against = None if fits else allowed._replace(text=near or one_of)
                        verdict = "equal" if fits else "near" if near else "different"
                        values.append(
                            Cell(
                                column=column,
                                value=value,
                                verdict=verdict,
                                against=against,
                                difference=difference(near, text) if near else None,
                            )
                        )
                item = f"values of {claim.name}"
                yield Row(item=item, words=item, owner=Side.APPLICATION, cells=tuple(values), counts=allowed)


def _places(role: Role | None, purpose: str) -> list[tuple[str, Location]]:
    """The addresses of the endpoints of one purpose, with the place of each."""
    return [
        (endpoint.location, endpoint.where)
        for endpoint in (role.endpoints if role else ())
        if endpoint.purpose == purpose
    ]


def _formats(role: Role | None) -> tuple[tuple[str, Location], ...]:
    return tuple((format_name, Location(path="NameIDFormat")) for format_name in role.name_id_formats) if role else ()
