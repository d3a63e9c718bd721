"""The table of cases: a captured response, settings of both sides, and the findings that must come of them.

Each case: its name, what differs in the message, what differs in the settings, and what is expected: the first break
(None where it must be sound or inconclusive), then codes with their severity that must be there.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from cryptography.hazmat.primitives import hashes
from lxml import etree

from kit import (
    ACS,
    AUDIENCE,
    DS,
    EMAIL,
    ISSUER,
    MORE,
    PERSISTENT,
    PROVIDER,
    SAML,
    SAMLP,
    TERN,
    TRANSIENT,
    attribute,
    bare,
    certificate,
    pem,
)

ACCOUNTS = "user,email,login,id,active,sign_in,groups\n"
CREW = {"accounts/crew.csv": f"{ACCOUNTS}{TERN},{TERN},m.tern,40117,yes,federated,grp-deck\n"}
LISTED = {"account": {"list": "accounts/crew.csv"}}
SKERRY = """name = "Skerry Pilots SSO"
entity_id = "https://sso.skerry-pilots.example/idp"
certificates = ["certs/skerry.pem"]
email_domains = ["skerry-pilots.example"]
"""
PARTNER = {"providers/skerry.toml": SKERRY, "certs/skerry.pem": pem(certificate("skerry"))}
OTHER_APP = """provider = "northmere-id"
name = "Berth Planner"
[application]
entity_id = "{entity_id}"
acs_urls = ["https://berths.northmere.example/acs"]
"""


@dataclass(frozen=True)
class Case:
    """One row of the table."""

    name: str
    message: dict[str, Any] = field(default_factory=dict)
    app: dict[str, Any] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    provider: str = PROVIDER
    at: str | None = None
    first: str | None = None
    outcome: str | None = None
    codes: dict[str, str] = field(default_factory=dict)
    absent: tuple[str, ...] = ()
    because: dict[str, str] = field(default_factory=dict)
    difference: str | None = None
    value: str | None = None
    side: str | None = None
    main: str = ""

    @property
    def expected_outcome(self) -> str:
        """As told, else broken where something breaks."""
        return self.outcome or ("broken" if self.first else "sound")


def _insert_comment(root: etree._Element) -> None:
    name = root.find(f".//{{{SAML}}}NameID")
    assert name is not None
    name.text = "m.tern@northmere.example"
    comment = etree.Comment("x")
    comment.tail = ".attacker.example"
    name.append(comment)


def _find(root: etree._Element, path: str) -> etree._Element:
    found = root.find(path.replace("saml:", f"{{{SAML}}}").replace("samlp:", f"{{{SAMLP}}}"))
    assert found is not None
    return found


def _text(path: str, text: str) -> Any:
    def edit(root: etree._Element) -> None:
        _find(root, path).text = text

    return edit


def _drop(name: str) -> Any:
    def edit(root: etree._Element) -> None:
        del root.attrib[name]

    return edit


def _remove(path: str) -> Any:
    def edit(root: etree._Element) -> None:
        found = _find(root, path)
        parent = found.getparent()
        assert parent is not None
        parent.remove(found)

    return edit


def _audiences(*values: str) -> str:
    return "".join(
        f"<saml:AudienceRestriction><saml:Audience>{value}</saml:Audience></saml:AudienceRestriction>"
        for value in values
    )


def _wrap_aside(root: etree._Element) -> None:
    """The signed assertion moved into Extensions, a forged one in its place."""
    signed = root.find(f"{{{SAML}}}Assertion")
    assert signed is not None
    forged = etree.fromstring(etree.tostring(signed))
    forged.remove(forged[1])
    forged.set("ID", "_forged")
    forged[1][0].text = "a.fulmar@northmere.example"
    root.remove(signed)
    aside = etree.SubElement(root, f"{{{SAMLP}}}Extensions")
    aside.append(signed)
    root.append(forged)


def _wrap_before(root: etree._Element) -> None:
    """A forged assertion before the signed one."""
    signed = root.find(f"{{{SAML}}}Assertion")
    assert signed is not None
    forged = etree.fromstring(etree.tostring(signed))
    forged.remove(forged[1])
    forged.set("ID", "_forged")
    root.insert(root.index(signed), forged)


def _wrap_object(root: etree._Element) -> None:
    """The signed assertion inside an Object of the signature that a forged assertion carries."""
    signed = root.find(f"{{{SAML}}}Assertion")
    assert signed is not None
    signature = signed[1]
    forged = etree.fromstring(etree.tostring(signed))
    forged.remove(forged[1])
    forged.set("ID", "_forged")
    signed.remove(signature)
    holder = etree.SubElement(signature, f"{{{DS}}}Object")
    root.remove(signed)
    holder.append(signed)
    forged.insert(1, signature)
    root.append(forged)


def _same_id(root: etree._Element) -> None:
    status = root.find(f"{{{SAMLP}}}Status")
    assert status is not None
    status.set("ID", "_as1")


def _enlarge(root: etree._Element) -> None:
    etree.indent(root)


METADATA = (
    '<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" '
    f'entityID="{ISSUER}" validUntil="{{until}}"><md:IDPSSODescriptor protocolSupportEnumeration="{SAMLP}">'
    f'<md:KeyDescriptor use="signing"><ds:KeyInfo xmlns:ds="{DS}"><ds:X509Data><ds:X509Certificate>{{key}}'
    "</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>"
    '<md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" '
    'Location="https://id.northmere.example/saml/sso"/></md:IDPSSODescriptor></md:EntityDescriptor>'
)
OLD_ID = {"signing": {"signer": "id-old"}}
DAMAGED = pem(certificate("id")).replace("\n", " ")
CUT = "\n".join(pem(certificate("id")).splitlines()[:8]) + "\n-----END CERTIFICATE-----\n"
ROLE = {"name": "role", "need": "must"}

CASES: tuple[Case, ...] = (
    Case("a good response", absent=("claim-missing", "no-trusted-key"), codes={"outcome-unknown": "note"}),
    Case("signed as a whole", {"signed": "response"}),
    Case("signed twice", {"signed": "both"}, {"application": {"signed_part": "both"}}),
    # readable
    Case("no ID", {"edit": _drop("ID")}, first="malformed-message"),
    Case("another version", {"response_version": "1.1"}, first="malformed-message"),
    Case("no status", {"edit": _remove("samlp:Status")}, first="malformed-message"),
    Case("success without an assertion", {"edit": _remove("saml:Assertion")}, first="malformed-message"),
    Case("nobody signed in", {"statement": False}, first="malformed-message"),
    Case("no moment", {"issued": "yesterday"}, first="malformed-message"),
    Case("an offset", {"issued": "2026-11-20T09:14:03+01:00"}, codes={"malformed-message": "risk"}),
    Case("indented", {"edit": _enlarge}, codes={"capture-altered": "risk"}, absent=("digest-mismatch",)),
    Case(
        "indented when it was signed, and again",
        {"inner": None, "edit": lambda root: (_enlarge(root), _set_text(root))},
        outcome="inconclusive",
        codes={"capture-altered": "risk"},
        absent=("digest-mismatch",),
    ),
    # answered
    Case(
        "refused",
        {"status": ("Responder", "RequestDenied"), "message": "no"},
        first="provider-refused",
        side="provider",
    ),
    Case("the request refused", {"status": ("Requester", "UnsupportedBinding")}, first="request-rejected"),
    Case("a code of its own", {"status": ("Responder", "x:our-own")}, first="provider-refused"),
    # delivered
    Case(
        "sent elsewhere",
        {"destination": "http://roster.northmere.example/saml/acs"},
        first="destination-mismatch",
        codes={"insecure-transport": "risk"},
        difference="scheme",
        value=ACS,
        side="provider",
    ),
    Case(
        "sent and made out elsewhere",
        {"destination": ACS + "/", "recipient": ACS + "/"},
        first="destination-mismatch",
        because={"recipient-mismatch": "destination-mismatch"},
        difference="trailing-slash",
    ),
    Case("made out elsewhere", {"recipient": "https://berths.northmere.example/saml/acs"}, first="recipient-mismatch"),
    Case("white space around the address", {"destination": ACS + " "}, codes={"destination-mismatch": "risk"}),
    Case("two requests", {"response_request": "_rq2"}, first="response-to-unknown-request"),
    Case(
        "unasked",
        {"request": None, "response_request": ""},
        {"application": {"accepts_unsolicited": False}},
        first="unsolicited-not-accepted",
    ),
    Case("unasked and accepted", {"request": None, "response_request": ""}),
    Case(
        "holder of key",
        {"method": "urn:oasis:names:tc:SAML:2.0:cm:holder-of-key"},
        first="subject-confirmation-invalid",
    ),
    Case("no recipient", {"recipient": None}, first="subject-confirmation-invalid"),
    Case("confirmed without end", {"confirmed_until": ""}, first="subject-confirmation-invalid"),
    Case(
        "confirmed from a moment on",
        {"confirmation": ' NotBefore="2026-11-20T08:13:03Z"'},
        first="subject-confirmation-invalid",
    ),
    # authentic
    Case("unsigned", {"signed": "none"}, first="not-signed", side="provider"),
    Case(
        "the response signed, the assertion wanted",
        {"signed": "response"},
        {"application": {"signed_part": "assertion"}},
        first="signed-part-wrong",
    ),
    Case("the assertion signed, both wanted", {}, {"application": {"signed_part": "both"}}, first="signed-part-wrong"),
    Case("changed afterwards", {"edit": _text(".//saml:AttributeValue", "master")}, first="digest-mismatch"),
    Case("signed by a stranger", {"signing": {"signer": "stranger"}}, first="signed-by-untrusted-key"),
    Case(
        "signed by nobody known", {"signing": {"signer": "stranger", "embed": False}}, first="signature-value-invalid"
    ),
    Case(
        "the retired key",
        OLD_ID,
        files={"certs/id-2024.pem": pem(certificate("id-old"))},
        first="signed-by-other-known-key",
        side="provider",
    ),
    Case(
        "the new key",
        {"signing": {"signer": "id-new"}},
        files={"certs/new.pem": pem(certificate("id-new"))},
        provider=PROVIDER.replace('"certs/id.pem"', '"certs/new.pem"'),
        first="signed-by-other-known-key",
        side="application",
        codes={"certificate-not-published": "risk", "next-key-not-pinned": "risk"},
    ),
    Case(
        "the fingerprint of the old key",
        {"signing": {"signer": "id-new"}},
        {"application": {"trusted_certificates": [certificate("id").fingerprint(hashes.SHA1()).hex(":")]}},
        files={"certs/new.pem": pem(certificate("id-new"))},
        provider=PROVIDER.replace('"certs/id.pem"', '"certs/new.pem"'),
        first="fingerprint-mismatch",
        value="sha1:" + certificate("id-new").fingerprint(hashes.SHA1()).hex(":").upper(),
    ),
    Case(
        "the right fingerprint",
        {},
        {
            "application": {
                "trusted_certificates": ["SHA256=" + certificate("id").fingerprint(hashes.SHA256()).hex(" ")]
            }
        },
    ),
    Case(
        "a fingerprint, and a key of another file",
        {"signing": {"signer": "skerry"}},
        {"application": {"trusted_certificates": ["sha256:" + certificate("id").fingerprint(hashes.SHA256()).hex()]}},
        files=PARTNER,
        first="signed-by-other-known-key",
    ),
    Case(
        "nothing to judge by",
        {},
        {"application": {"trusted_certificates": None}},
        provider=PROVIDER.replace('certificates = ["certs/id.pem"]\n', ""),
        outcome="inconclusive",
        codes={"no-trusted-key": "risk"},
    ),
    Case("no pins: the published keys serve", {}, {"application": {"trusted_certificates": None}}),
    Case(
        "keys from metadata",
        {},
        {"application": {"trusted_certificates": [], "trust_from": "metadata"}},
        files={"metadata/id.xml": METADATA.format(until="2027-01-01T00:00:00Z", key=bare(certificate("id")))},
        provider='name = "Northmere ID"\nmetadata = "metadata/id.xml"\nemail_domains = ["northmere.example"]\n',
    ),
    Case("wrapped aside", {"edit": _wrap_aside}, first="signature-wrapping", absent=("digest-mismatch",)),
    Case("wrapped before", {"edit": _wrap_before}, first="signature-wrapping"),
    Case("wrapped in an object", {"edit": _wrap_object}, first="signature-wrapping"),
    Case("one ID twice", {"edit": _same_id}, first="duplicate-id"),
    Case("a shared secret", {"signing": {"method": MORE + "hmac-sha256"}}, first="signature-form-refused"),
    Case("the whole document", {"signing": {"reference": ""}}, first="signature-form-refused"),
    Case("another document", {"signing": {"reference": "https://evil.example/x"}}, first="signature-form-refused"),
    Case(
        "a stylesheet",
        {"signing": {"transforms": '<ds:Transform Algorithm="http://www.w3.org/TR/1999/REC-xslt-19991116"/>'}},
        first="signature-form-refused",
    ),
    Case(
        "SHA-1",
        {"signing": {"method": DS + "rsa-sha1", "hashed": hashes.SHA1(), "digest": DS + "sha1", "digest_name": "sha1"}},
        codes={"weak-signature": "risk"},
    ),
    Case(
        "a short key",
        {"signing": {"signer": "weak", "kind": "rsa-1024"}},
        {"application": {"trusted_certificates": ["certs/weak.pem"]}},
        files={"certs/weak.pem": pem(certificate("weak", kind="rsa-1024"))},
        codes={"weak-key": "risk"},
    ),
    Case(
        "a certificate that had ended",
        {},
        files={"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-11-01"))},
        codes={"certificate-expired": "risk"},
    ),
    Case(
        "a certificate that had ended, and counts",
        {},
        {"application": {"checks_certificate_dates": True}},
        files={"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-11-01"))},
        first="certificate-expired",
    ),
    Case(
        "counts for all applications",
        {},
        main="checks_certificate_dates = true\n",
        files={"certs/id.pem": pem(certificate("id", "2025-01-01", "2026-11-01"))},
        first="certificate-expired",
    ),
    Case(
        "a certificate that had not begun",
        {},
        files={"certs/id.pem": pem(certificate("id", "2026-12-01", "2028-01-01"))},
        codes={"certificate-not-yet-valid": "risk"},
    ),
    Case(
        "a certificate about to end",
        {},
        files={"certs/id.pem": pem(certificate("id", "2026-01-01", "2026-12-10"))},
        codes={"certificate-expiring": "risk"},
    ),
    Case(
        "a certificate about to end, warned of later",
        {},
        {"application": {"warn_before": "5d"}},
        files={"certs/id.pem": pem(certificate("id", "2026-01-01", "2026-12-10"))},
        absent=("certificate-expiring",),
    ),
    Case("a damaged pin that serves", {}, files={"certs/id.pem": DAMAGED}, codes={"certificate-damaged": "risk"}),
    Case(
        "a damaged pin beyond repair",
        {},
        files={"certs/id.pem": CUT},
        first="certificate-damaged",
        provider=PROVIDER.replace('certificates = ["certs/id.pem"]\n', ""),
        because={"no-trusted-key": "certificate-damaged"},
    ),
    Case(
        "a comment in the name",
        {"name_id": f"{TERN}.attacker.example", "edit": _insert_comment},
        codes={"comment-in-identity": "risk"},
    ),
    # intended
    Case(
        "another issuer",
        {"issuer": ISSUER + "/"},
        first="issuer-mismatch",
        difference="trailing-slash",
        side="provider",
        value=ISSUER,
    ),
    Case(
        "the application expects another issuer",
        {},
        {"application": {"provider_entity_id": ISSUER + "/"}},
        first="issuer-mismatch",
        side="application",
        value=ISSUER,
        codes={"settings-disagree": "break"},
    ),
    Case(
        "another provider",
        {"issuer": "https://sso.skerry-pilots.example/idp", "signing": {"signer": "skerry"}},
        files=PARTNER,
        first="issuer-mismatch",
        because={"signed-by-other-known-key": "issuer-mismatch"},
    ),
    Case(
        "nobody's",
        {
            "issuer": "https://x.example",
            "audiences": _audiences("https://y.example"),
            "destination": "https://z.example/a",
            "recipient": "https://z.example/a",
        },
        first="issuer-unknown",
    ),
    Case(
        "no application",
        {
            "audiences": _audiences("https://y.example"),
            "destination": "https://z.example/a",
            "recipient": "https://z.example/a",
        },
        files={"apps/berth-planner.toml": OTHER_APP.format(entity_id="https://b.example")},
        outcome="inconclusive",
        codes={"application-unknown": "risk"},
    ),
    Case(
        "the slash lost",
        {"audiences": _audiences(AUDIENCE[:-1])},
        first="audience-mismatch",
        value=AUDIENCE,
        difference="trailing-slash",
        side="provider",
    ),
    Case(
        "the ACS URL as audience",
        {"audiences": _audiences(ACS)},
        first="audience-mismatch",
        codes={"setting-misplaced": "break"},
    ),
    Case(
        "the setting explains it",
        {"audiences": _audiences(AUDIENCE[:-1])},
        {"provider_setup": {"audience": AUDIENCE[:-1]}},
        first="audience-mismatch",
        codes={"settings-disagree": "break"},
    ),
    Case(
        "white space around the audience",
        {"audiences": _audiences(f" {AUDIENCE}\n")},
        codes={"audience-mismatch": "risk"},
    ),
    Case(
        "two restrictions, one of them not ours",
        {"audiences": _audiences(AUDIENCE, "https://x.example")},
        first="audience-mismatch",
    ),
    Case("no audience", {"audiences": ""}, first="audience-missing", value=AUDIENCE),
    Case(
        "one identifier, two applications",
        {},
        files={"apps/berth-planner.toml": OTHER_APP.format(entity_id=AUDIENCE)},
        codes={"audience-shared": "risk"},
    ),
    # current
    Case("late", {}, at="2026-11-20T08:30:00+00:00", first="expired"),
    Case("late within the skew", {}, at="2026-11-20T08:22:02+00:00"),
    Case("late to the second", {}, at="2026-11-20T08:22:03+00:00", first="expired"),
    Case(
        "early",
        {},
        at="2026-11-20T08:05:03+00:00",
        first="not-yet-valid",
        because={"issued-in-future": "not-yet-valid"},
        codes={"issued-in-future": "risk"},
    ),
    Case("early within the skew", {}, at="2026-11-20T08:10:03+00:00", absent=("not-yet-valid",)),
    Case("a skew of its own", {}, {"application": {"clock_skew": "10m"}}, at="2026-11-20T08:25:00+00:00"),
    Case(
        "the session over",
        {"ends": "2026-11-21T08:00:00Z", "session_end": "2026-11-20T09:00:00Z"},
        at="2026-11-20T09:30:00+00:00",
        first="session-expired",
    ),
    Case(
        "an empty window",
        {"begins": "2026-11-20T08:14:00Z", "ends": "2026-11-20T08:10:00Z"},
        at="2026-11-20T08:14:10+00:00",
        first="window-empty",
        because={"expired": "window-empty"},
    ),
    Case("a long window", {"ends": "2026-11-25T08:14:00Z"}, codes={"validity-too-long": "risk", "still-valid": "note"}),
    Case("an earlier session", {"authenticated": "2026-11-20T05:00:00Z"}, codes={"earlier-session-used": "note"}),
    # identified
    Case("nobody", {"subject": ""}, first="subject-missing"),
    Case("an empty name", {"name_id": " "}, first="subject-missing"),
    Case(
        "the wrong format",
        {"name_format": TRANSIENT, "name_id": "_a81f"},
        {**LISTED, "application": {"name_id_format": EMAIL}},
        files=CREW,
        first="name-id-format-mismatch",
        because={"account-not-found": "name-id-format-mismatch"},
    ),
    Case(
        "another format, the value serves",
        {"name_format": None},
        {**LISTED, "application": {"name_id_format": EMAIL}},
        files=CREW,
        codes={"name-id-format-mismatch": "risk"},
    ),
    Case("no account", {"name_id": "x.nobody@northmere.example"}, LISTED, files=CREW, first="account-not-found"),
    Case(
        "capital letters",
        {"name_id": "M.Tern@northmere.example"},
        LISTED,
        files=CREW,
        first="account-near-match",
        difference="case",
        value=TERN,
    ),
    Case("the login name", {"name_id": "m.tern", "name_format": None}, LISTED, files=CREW, first="account-near-match"),
    Case(
        "white space in the name",
        {"name_id": f"{TERN} "},
        LISTED,
        files=CREW,
        first="account-near-match",
        difference="whitespace",
    ),
    Case(
        "a lookalike",
        {"name_id": "m.t\u0435rn@northmere.example"},
        LISTED,
        files=CREW,
        first="account-near-match",
        difference="lookalike",
    ),
    Case(
        "compared without case",
        {"name_id": "M.TERN@northmere.example"},
        {"account": {"list": "accounts/crew.csv", "compare": "ignore-case"}},
        files=CREW,
    ),
    Case(
        "the rule drops the domain",
        {},
        {"account": {"list": "accounts/crew.csv", "column": "login", "rewrite": [{"drop_domain": True}]}},
        files=CREW,
    ),
    Case(
        "a rule in steps",
        {"name_id": "X-M.Tern"},
        {
            "account": {
                "list": "accounts/crew.csv",
                "rewrite": [
                    {"case": "lower"},
                    {"replace": "^x-(.*)$", "with": "\\1"},
                    {"add_suffix": "@northmere.example"},
                ],
            }
        },
        files=CREW,
    ),
    Case(
        "two accounts",
        {},
        {"account": {"list": "accounts/crew.csv", "compare": "ignore-case"}},
        files={"accounts/crew.csv": f"user\n{TERN}\nM.TERN@northmere.example\n"},
        first="account-ambiguous",
    ),
    Case(
        "switched off", {}, LISTED, files={"accounts/crew.csv": f"user,active\n{TERN},no\n"}, first="account-disabled"
    ),
    Case(
        "a local password",
        {},
        LISTED,
        files={"accounts/crew.csv": f"user,sign_in\n{TERN},password\n"},
        first="account-not-federated",
    ),
    Case(
        "made at the first sign-in",
        {"name_id": "x.new@northmere.example"},
        {"account": {"list": "accounts/crew.csv", "created_at_first_sign_in": True}},
        files=CREW,
        codes={"account-not-found": "risk"},
    ),
    Case(
        "made from the other side only",
        {"name_id": "x.new@northmere.example"},
        {"account": {"list": "accounts/crew.csv", "created_at_first_sign_in": True, "creates_from": "provider"}},
        files=CREW,
        first="account-creation-blocked",
    ),
    Case(
        "made, but for a claim",
        {"name_id": "x.new@northmere.example"},
        {
            "account": {"list": "accounts/crew.csv", "created_at_first_sign_in": True},
            "claims": [{"name": "department", "need": "must"}],
        },
        files=CREW,
        first="claim-missing",
        because={"account-creation-blocked": "claim-missing"},
    ),
    Case(
        "by a claim",
        {"attributes": attribute("employee", "40117")},
        {"account": {"from": "employee", "list": "accounts/crew.csv", "column": "id"}},
        files=CREW,
    ),
    Case(
        "by a claim that is not there",
        {},
        {"account": {"from": "employee"}, "claims": [{"name": "employee"}]},
        first="subject-missing",
        because={"claim-missing": "subject-missing"},
    ),
    Case(
        "a guest",
        {"name_id": "nils_skerry-pilots.example~guest@northmere.example"},
        LISTED,
        files={"accounts/crew.csv": "user\nnils@skerry-pilots.example\n", **PARTNER},
        first="account-near-match",
        codes={"guest-identifier": "risk"},
    ),
    Case(
        "a guest by the provider's own pattern",
        {"name_id": "nils=skerry-pilots.example!north@northmere.example"},
        provider=PROVIDER + "guest_pattern = '^(?P<local>[^=]+)=(?P<domain>[^!]+)!'\n",
        codes={"guest-identifier": "risk"},
    ),
    Case("a name that does not last", {"name_format": TRANSIENT}, codes={"subject-unstable": "risk"}),
    Case(
        "a name for this application",
        {"name_format": PERSISTENT},
        {"application": {"name_id_format": PERSISTENT}},
        absent=("subject-unstable",),
    ),
    Case("a domain of nobody", {"name_id": "m.tern@elsewhere.example"}, codes={"domain-not-routed": "risk"}),
    # entitled
    Case("a claim missing", {"attributes": ""}, {"claims": [ROLE]}, first="claim-missing", value="role"),
    Case(
        "a claim missing that should be there",
        {"attributes": ""},
        {"claims": [{"name": "role", "need": "should"}]},
        codes={"claim-missing": "risk"},
    ),
    Case(
        "a claim missing that may be there",
        {"attributes": ""},
        {"claims": [{"name": "role", "need": "may"}]},
        absent=("claim-missing",),
    ),
    Case("a claim without a value", {"attributes": attribute("role", "")}, {"claims": [ROLE]}, first="claim-empty"),
    Case(
        "a claim by case", {"attributes": attribute("Role", "mate")}, {"claims": [ROLE]}, first="claim-name-near-match"
    ),
    Case(
        "a claim by namespace",
        {"attributes": attribute("https://schemas.example/claims/role", "mate")},
        {"claims": [ROLE]},
        first="claim-name-near-match",
    ),
    Case(
        "a claim by object identifier",
        {"attributes": attribute("urn:oid:2.5.4.42", "Mia")},
        {"claims": [{"name": "givenName"}]},
        codes={"claim-name-near-match": "risk"},
    ),
    Case(
        "a claim by friendly name",
        {"attributes": attribute("urn:x:1", "Mia", friendly="department")},
        {"claims": [{"name": "department"}]},
        first="claim-name-near-match",
    ),
    Case(
        "a claim under an accepted name",
        {"attributes": attribute("urn:role", "mate")},
        {"claims": [{**ROLE, "also_as": ["urn:role"]}]},
    ),
    Case(
        "a value unknown",
        {"attributes": attribute("role", "Mate")},
        {"claims": [{**ROLE, "one_of": ["mate", "master"]}]},
        first="claim-value-not-allowed",
        difference="case",
        value="mate",
    ),
    Case(
        "one value known, one not",
        {"attributes": attribute("role", "mate", "cook")},
        {"claims": [{**ROLE, "one_of": ["mate"]}]},
        codes={"claim-value-not-allowed": "risk"},
    ),
    Case(
        "a value mapped",
        {"attributes": attribute("role", "grp-bridge")},
        {"claims": [{**ROLE, "one_of": ["master"], "maps": {"grp-bridge": "master"}}]},
        absent=("claim-value-not-allowed",),
    ),
    Case(
        "several values",
        {"attributes": attribute("role", "mate", "master")},
        {"claims": [{**ROLE, "single": True}]},
        codes={"claim-not-single": "risk"},
    ),
    Case("a claim for nobody", {}, {"claims": [{"name": "mail", "need": "may"}]}, codes={"claim-unused": "note"}),
    Case("claims, and none on record", {}, absent=("claim-unused",)),
    Case(
        "another authentication than the settings demand",
        {},
        {"application": {"authn_contexts": ["urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"]}},
        first="assurance-too-low",
        value="urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken",
    ),
    Case(
        "the authentication that the settings demand",
        {},
        {"application": {"authn_contexts": ["urn:oasis:names:tc:SAML:2.0:ac:classes:Password"]}},
        absent=("assurance-too-low",),
    ),
    Case(
        "elevated only",
        {},
        {"claims": [{**ROLE, "one_of": ["mate"], "elevated": ["mate"]}]},
        codes={"ordinary-role-missing": "risk"},
    ),
    Case(
        "groups left out, and needed",
        {"attributes": attribute("groups_elsewhere", "true")},
        {"claims": [{"name": "groups", "need": "must"}]},
        provider=PROVIDER + 'left_out_markers = ["groups_elsewhere"]\n',
        first="groups-left-out",
        because={"claim-missing": "groups-left-out"},
    ),
    Case(
        "groups left out, not needed",
        {"attributes": attribute("groups_elsewhere", "true")},
        provider=PROVIDER + 'left_out_markers = ["groups_elsewhere"]\n',
        codes={"groups-left-out": "risk"},
    ),
    Case(
        "nearly too many groups",
        {"attributes": attribute("groups", *(f"g{i}" for i in range(9)))},
        {"claims": [{"name": "groups"}]},
        provider=PROVIDER + "most_groups = { assertion = 10 }\n",
        codes={"groups-near-limit": "risk"},
    ),
    Case(
        "groups by id",
        {"attributes": attribute("groups", "0f0e0d0c-1111-2222-3333-444455556666")},
        {"claims": [{"name": "groups", "maps": {"grp-deck": "deck"}}]},
        first="group-style-mismatch",
    ),
    Case(
        "groups of no meaning",
        {"attributes": attribute("groups", "grp-x")},
        {"claims": [{"name": "groups", "maps": {"grp-deck": "deck"}}]},
        codes={"group-unmapped": "risk"},
    ),
    Case(
        "not assigned",
        {},
        {"provider_setup": {"assigned": "assigned.csv"}},
        files={"assigned.csv": "user,group\na.fulmar@northmere.example,\n"},
        first="not-assigned",
    ),
    Case(
        "nobody assigned",
        {},
        {"provider_setup": {"assigned": "assigned.csv"}},
        files={"assigned.csv": "user\n"},
        first="not-assigned",
    ),
    Case(
        "assigned by login",
        {},
        {**LISTED, "provider_setup": {"assigned": "assigned.csv"}},
        files={**CREW, "assigned.csv": "user\nM.Tern\n"},
    ),
    Case(
        "assigned by a group within a group",
        {},
        {
            "account": {"list": "accounts/crew.csv", "groups": "groups.csv"},
            "provider_setup": {"assigned": "assigned.csv"},
        },
        files={**CREW, "assigned.csv": "group\ngrp-all\n", "groups.csv": "group,member\ngrp-all,grp-deck\n"},
    ),
    Case("everyone", {}, {"provider_setup": {"assigned": "everyone"}}),
    Case(
        "a folded guest who is assigned by their own address",
        {"name_id": "nils_skerry-pilots.example~guest@northmere.example"},
        {**LISTED, "provider_setup": {"assigned": "assigned.csv"}},
        files={
            "accounts/crew.csv": "user\nnils@skerry-pilots.example\n",
            "assigned.csv": "user\nnils@skerry-pilots.example\n",
            **PARTNER,
        },
        first="account-near-match",
        absent=("not-assigned",),
    ),
    Case(
        "not assigned, by a name that does not last",
        {"name_format": TRANSIENT, "name_id": "_a81f"},
        {"application": {"name_id_format": EMAIL}, "provider_setup": {"assigned": "assigned.csv"}},
        files={"assigned.csv": f"user\n{TERN}\n"},
        first="name-id-format-mismatch",
        because={"not-assigned": "name-id-format-mismatch"},
    ),
    Case(
        "another provider's user",
        {
            "issuer": "https://sso.skerry-pilots.example/idp",
            "signing": {"signer": "skerry"},
            "name_id": "ida@skerry-pilots.example",
        },
        {
            "provider_setup": {"assigned": "assigned.csv"},
            "application": {"provider_sso_url": "https://id.northmere.example/sso"},
        },
        files={"assigned.csv": f"user\n{TERN}\n", **PARTNER},
        first="issuer-mismatch",
        absent=("not-assigned", "domain-not-routed"),
        value="https://id.northmere.example/sso",
    ),
    # admitted
    Case("a short session", {"session_end": "2026-11-20T08:24:00Z"}, codes={"session-ends-early": "risk"}),
    # several at once
    Case(
        "two breaks",
        {"audiences": _audiences(AUDIENCE[:-1]), "name_id": "x@northmere.example"},
        LISTED,
        files=CREW,
        first="audience-mismatch",
        codes={"account-not-found": "break"},
    ),
)


def _set_text(root: etree._Element) -> None:
    """White space of another measure, as a second formatter leaves it, and a change that cannot be undone."""
    etree.indent(root, space="    ")
    for element in root.iter():
        if element.text and not element.text.strip() and str(element.tag).endswith("Subject"):
            element.text = None
    value = root.find(f".//{{{SAML}}}AttributeValue")
    assert value is not None
    value.text = " mate  of "
