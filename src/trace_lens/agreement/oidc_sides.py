"""The two sides of an OpenID Connect client laid beside each other, with discovery and a capture beside them."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.agreement.oidc_settings import OFFERED, in_discovery, of_issuer, same_offer
from trace_lens.agreement.pairs import Value
from trace_lens.agreement.rows import Cell, Row, Sides
from trace_lens.checks.case import Case
from trace_lens.checks.claims import matches
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.intended import WELL_KNOWN
from trace_lens.checks.oidc.redirected import same_redirect
from trace_lens.common.difference import difference, is_near
from trace_lens.common.findings import Evidence, Side
from trace_lens.common.locations import Location
from trace_lens.oidc.algorithms import same_algorithm
from trace_lens.workspace.records import App, Workspace

DOCUMENT = "provider_metadata"
GRANTED = "scope granted"
"""The column of the discovery document."""


class ClientSides(Sides):
    """The items of a client: from the settings, the discovery document and the capture."""

    def __init__(self, app: App, workspace: Workspace, case: Case | None) -> None:
        super().__init__(app, workspace)
        self.case = case if isinstance(case, OidcCase) else None

    def rows(self) -> Iterator[Row]:
        """All items, those that break sign-ins most often first."""
        yield self._client_id()
        yield self._redirect_uris()
        yield self._issuer()
        yield self._discovery_url()
        yield from self._endpoints()
        yield self._scopes()
        for key, member in OFFERED:
            if key not in ("scopes", "acr_values"):
                yield self._offered(key, key.replace("_", " "), member)
        yield self._pkce()
        yield self._keys()
        yield self._secret()
        yield self._domains()
        yield from self._claims()

    def _discovered(self, member: str, text: object) -> list[tuple[str, Value]]:
        if self.provider is None or not isinstance(text, str):
            return []
        return [(DOCUMENT, in_discovery(self.provider, member, text))]

    @staticmethod
    def _seen(found: list[Evidence], label: str | None = None, *, asked: bool = False) -> list[tuple[str, Value]]:
        """Values of the capture; `asked` says that they are of the request."""
        return [
            ("capture", Value(label or evidence.label, evidence.value, evidence.source, evidence.where, asked=asked))
            for evidence in found
        ]

    def _client_id(self) -> Row:
        cells = [
            *self._in_app("client_id", self.mine.oidc.client_id),
            *self._at_provider("client_id", self.setup.client_id),
        ]
        if self.case:
            token = self.case.token
            if token and not self.case.as_access_token:
                counts = self.setup.client_id or self.mine.oidc.client_id
                shown = self.case.of_token("aud", "aud")
                texts = [text for text in token.audience if text == counts] or list(token.audience)[:1]
                cells += self._seen([evidence._replace(value=text) for evidence in shown for text in texts], "aud")
            cells += self._seen(
                self.case.parameter(self.case.attempt.request, "client_id"), "client_id of the request", asked=True
            )
        owner = Side.PROVIDER if self.setup.client_id else Side.APPLICATION
        return self._row("client_id", "identifier of the application", owner, cells)

    def _redirect_uris(self) -> Row:
        cells = [
            *self._in_app("redirect_uris", *self.mine.oidc.redirect_uris),
            *[cell for url in self.setup.redirect_uris for cell in self._at_provider("redirect_uris", url)],
        ]
        if self.case:
            asked = self.case.parameter(self.case.attempt.request, "redirect_uri")
            cells += self._seen(asked, "redirect_uri of the request", asked=True)
            answer = self.case.attempt.answer
            address = answer.parameters.address if answer and answer.parameters else None
            if answer and address:
                cells.append(("capture", Value("address of the answer", address, answer.source, answer.place)))
        row = self._row("redirect_uris", "redirect URI", Side.APPLICATION, cells, some_of=True)
        loopback = [
            cell._replace(verdict="equal", difference=None)
            if cell.against and same_redirect(cell.against.text, cell.value.text)
            else cell
            for cell in row.cells
        ]
        return row._replace(cells=tuple(loopback))

    def _issuer(self) -> Row:
        provider = self.provider
        cells = [
            *self._in_app("provider_issuer", self.mine.oidc.provider_issuer),
            *self._of_provider("issuer", provider.settings.issuer if provider else None),
            *self._discovered("issuer", provider.discovery.get("issuer") if provider else None),
        ]
        if self.case:
            cells += self._seen(self.case.of_token("iss", "iss") if self.case.issuer_name else [])
            cells += self._seen(self.case.parameter(self.case.attempt.answer, "iss"), "iss of the answer")
        return self._row("issuer", "issuer of the provider", Side.PROVIDER, cells)

    def _discovery_url(self) -> Row:
        issuer = of_issuer(self.provider) if self.provider else None
        cells = self._in_app("discovery_url", self.mine.oidc.discovery_url)
        counts = issuer._replace(text=issuer.text.rstrip("/") + WELL_KNOWN) if issuer else None
        return self._row("discovery_url", "discovery document", Side.PROVIDER, cells, counts=counts)

    def _endpoints(self) -> Iterator[Row]:
        document = self.provider.discovery if self.provider else {}
        calls = {"authorization_endpoint": "authorization-request", "token_endpoint": "token-request"}
        for member, kind in calls.items():
            cells = self._discovered(member, document.get(member))
            if member == "authorization_endpoint":
                cells = [*self._in_app("provider_sso_url", self.mine.provider_sso_url), *cells]
            for message in self.case.attempt.of(kind) if self.case else ():
                address = message.parameters.address if message.parameters else None
                if address and ":" in address:
                    cells.append(
                        (
                            "capture",
                            Value(f"address of the {kind.replace('-', ' ')}", address, message.source, message.place),
                        )
                    )
            yield self._row(member, member.replace("_", " "), Side.PROVIDER, cells)

    @property
    def _asked_scopes(self) -> set[str]:
        """The scopes of the request, where it was captured; else those that the application has set."""
        asked = self.case.asked("scope") if self.case else None
        return set(asked.split()) if asked else set(self.mine.oidc.scopes)

    def _scopes(self) -> Row:
        """Scopes are sets: what is asked for must be granted, in any order."""
        asked = " ".join(self.mine.oidc.scopes)
        cells = [
            *self._in_app("scopes", asked),
            *self._at_provider("scopes_granted", " ".join(self.setup.scopes_granted)),
        ]
        if self.case:
            cells += self._seen(
                self.case.parameter(self.case.attempt.request, "scope"), "scope of the request", asked=True
            )
            response = self.case.attempt.token_response
            cells += self._seen(self.case.parameter(response, "scope"), GRANTED)
        counts = cells[0][1] if asked else None
        judged = []
        for column, value in cells:
            wanted = self._asked_scopes if value.meant == GRANTED else set(self.mine.oidc.scopes)
            lacking = wanted - set(value.text.split()) - {"openid", "offline_access"}
            own = counts is None or value is counts
            verdict = "alone" if own and len(cells) < 2 else "different" if lacking else "equal"
            judged.append(Cell(column, value, verdict, counts if verdict == "different" else None))
        return Row(item="scopes", words="scopes", owner=Side.APPLICATION, cells=tuple(judged), counts=counts)

    def _offered(self, key: str, words: str, member: str) -> Row:
        told = getattr(self.mine.oidc, key)
        wanted = told if isinstance(told, tuple) else (told,) if told else ()
        listed = self.provider.discovery.get(member) if self.provider else None
        offered = [str(item) for item in listed] if isinstance(listed, list) else []
        if not wanted and key != "token_algorithm":
            return Row(item=key, words=words, owner=Side.PROVIDER, cells=(), counts=None)
        against = self._discovered(member, ", ".join(offered))[0][1] if offered and self.provider else None
        cells = []
        for text in wanted:
            fits = any(same_offer(key, text, word) for word in offered)
            verdict = "alone" if against is None else "equal" if fits else "different"
            for column, value in self._in_app(key, text):
                cells.append(Cell(column, value, verdict, against if verdict == "different" else None))
        if against:
            cells.append(
                Cell(
                    DOCUMENT, against, "equal" if cells and all(cell.verdict == "equal" for cell in cells) else "alone"
                )
            )
        if key == "token_algorithm" and self.case and self.case.token:
            used = self.case.token.jws.algorithm
            allowed = list(wanted) or offered
            fits = not allowed or any(same_algorithm(used, item) for item in allowed)
            for column, value in self._seen(self.case.of_header("alg")):
                cells.append(Cell(column, value, "equal" if fits else "different"))
        return Row(item=key, words=words, owner=Side.PROVIDER, cells=tuple(cells), counts=against)

    def _pkce(self) -> Row:
        told = self.mine.oidc.requires_pkce
        listed = self.provider.discovery.get("code_challenge_methods_supported") if self.provider else None
        cells = [Cell(*value) for value in self._in_app("requires_pkce", None if told is None else str(told).lower())]
        if isinstance(listed, list):
            methods = ", ".join(map(str, listed))
            cells += [Cell(*value) for value in self._discovered("code_challenge_methods_supported", methods)]
        if self.case and self.case.request:
            method = self.case.asked("code_challenge_method") or (
                "plain" if self.case.asked("code_challenge") else "none"
            )
            message = self.case.attempt.request
            if message:
                value = Value("code challenge of the request", method, message.source, message.place, asked=True)
                fits = method == "S256" or not told
                cells.append(Cell("capture", value, "equal" if fits else "different", None if fits else cells[0].value))
        return Row(item="pkce", words="code challenge (PKCE)", owner=Side.APPLICATION, cells=tuple(cells), counts=None)

    def _keys(self) -> Row:
        """The key that the token names against the provider's key set."""
        verdict = self.case.verdict if self.case else None
        provider = self.provider
        file = (provider.settings.key_set if provider else None) or ""
        cells = [
            Cell(DOCUMENT, Value("key", jwk.id or "without a kid", file, Location(path=jwk.place)), "alone")
            for jwk in (provider.key_set if provider else ())
            if jwk.for_signing
        ]
        counts = cells[0].value if cells else None
        if self.case and verdict and self.case.token:
            fits = verdict.standing == "trusted" and (
                verdict.key in verdict.named or self.case.token.jws.key_id is None
            )
            for column, value in self._seen(self.case.of_header("kid")):
                cells.append(Cell(column, value, "equal" if fits else "different"))
            named = {key.key.id for key in verdict.named}
            cells = [cell._replace(verdict="equal") if cell.value.text in named and fits else cell for cell in cells]
        return Row(item="keys", words="signing key", owner=Side.PROVIDER, cells=tuple(cells), counts=counts)

    def _secret(self) -> Row:
        told = self.mine.oidc.secret_expires
        cells = tuple(Cell(*value) for value in self._in_app("secret_expires", str(told) if told else None))
        return Row(item="secret", words="end of the client secret", owner=Side.PROVIDER, cells=cells, counts=None)

    def _claims(self) -> Iterator[Row]:
        """Each claim that the application reads: its name, what is released, and what was sent for it."""
        sent = {match.position: match for match in matches(self.case)} if self.case and self.case.token else {}
        released = self.setup.claims_released
        for position, claim in enumerate(self.app.settings.claims):
            place = self.app.source.where("claims", position)
            cells = [Cell("application", Value("claim", claim.name, self.app.source.file, place))]
            for name in released:
                if name in (claim.name, *claim.also_as):
                    cells += [
                        Cell(column, value, "equal") for column, value in self._at_provider("claims_released", name)
                    ]
                elif is_near(claim.name, name) and claim.name not in released:
                    found = difference(claim.name, name)
                    cells += [
                        Cell(column=column, value=value, verdict="near", against=cells[0].value, difference=found)
                        for column, value in self._at_provider("claims_released", name)
                    ]
            match = sent.get(position)
            if match and match.sent_as and self.case:
                near = cells[0].value if match.near else None
                how = difference(claim.name, match.sent_as) if match.near else None
                for evidence in self.case.evidence_of(match.sent_as)[:1]:
                    value = Value(self.case.source_of(match.sent_as), match.sent_as, evidence.source, evidence.where)
                    cells.append(
                        Cell(
                            column="capture",
                            value=value,
                            verdict="near" if match.near else "equal",
                            against=near,
                            difference=how,
                        )
                    )
            yield Row(
                item=f"claim {claim.name}",
                words=f"claim {claim.name}",
                owner=Side.APPLICATION,
                cells=tuple(cells),
                counts=cells[0].value,
            )
