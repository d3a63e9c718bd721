"""The captured responses of the fortnight: about a third work, the others break, each in its own way."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from urllib.parse import quote, urlencode

from lxml import etree

from trace_lens.demo.captured import Capture
from trace_lens.demo.diary import Diary, Entry
from trace_lens.demo.exchanges import artifact, encrypt, exchange, federation
from trace_lens.demo.exports import exports
from trace_lens.demo.exports_ended import exports_ended
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.messages import REQUEST_DENIED, RESPONDER, TRANSIENT, Answer, response
from trace_lens.demo.scenario import BY_ID, PARTNER, PROVIDER, ROLLOVER, Application
from trace_lens.demo.token_captures import token_captures

_A = "{urn:oasis:names:tc:SAML:2.0:assertion}"


class _Fortnight:
    """Makes the captures; the random numbers are drawn from one seed, in a fixed order."""

    def __init__(self, keys: dict[str, SigningKey], seed: int) -> None:
        self._keys = keys
        self.draw = Diary(seed)

    def answer(self, app: str, email: str, day: int, hour: int, minute: int, **changes: object) -> Answer:
        """A good answer of Northmere ID for one application on a day of November 2026, with changes."""
        application: Application = BY_ID[app]
        issued = datetime(2026, 11, day, hour, minute, self.draw.randrange(60), tzinfo=UTC)
        attributes = {
            name: [value.format(email=email) for value in values]
            for name, values in application.at_provider.attributes.items()
        }
        good = Answer(
            issuer=PROVIDER,
            audience=application.entity_id,
            acs_url=application.acs_url,
            name_id=email,
            issued=issued,
            attributes=attributes,
        )
        return replace(good, **changes)  # type: ignore[arg-type]

    def xml(self, answer: Answer, signed: str = "assertion", key: str | None = None) -> etree._Element:
        """The response, signed with the key in use at the moment, or with another one."""
        chosen = key or ("id-2026" if answer.issued >= ROLLOVER else "id-2025")
        return response(answer, self._keys[chosen], self.draw, signed)


def captures(keys: dict[str, SigningKey], seed: int = 2026) -> list[tuple[Capture, list[Entry]]]:
    """All captures, in the order of the fortnight, each with what the diary has of it.

    `keys` are named id-2025, id-2026, skerry and stranger.
    """
    make = _Fortnight(keys, seed)
    made = []
    for capture in _all(make, keys):
        made.append((capture, make.draw.entries))
        make.draw.entries = []
    return made


def _all(make: _Fortnight, keys: dict[str, SigningKey]) -> Iterator[Capture]:
    """The captures, one after the other."""
    tern, fulmar, plover = (f"{name}@northmere.example" for name in ("m.tern", "a.fulmar", "l.plover"))
    dunlin, petrel, eider = (f"{name}@northmere.example" for name in ("k.dunlin", "o.petrel", "e.eider"))

    yield Capture("01-crew-roster-works.txt", _form(make.xml(make.answer("crew-roster", tern, 9, 6, 12))))
    yield Capture("02-fuel-ledger-works.xml", _raw(make.xml(make.answer("fuel-ledger", dunlin, 10, 7, 40), "response")))
    yield Capture("03-ticket-desk-works-wrapped.txt", _wrapped(make.xml(make.answer("ticket-desk", plover, 11, 9, 3))))
    yield Capture(
        "04-crew-roster-slash-lost.txt",
        _form(
            make.xml(
                make.answer(
                    "crew-roster",
                    "M.Tern@northmere.example",
                    12,
                    5,
                    58,
                    audience="https://roster.northmere.example/saml",
                )
            )
        ),
    )
    yield Capture(
        "05-ticket-desk-groups-left-out.txt",
        _form(make.xml(make.answer("ticket-desk", fulmar, 12, 10, 21, attributes={"groups_elsewhere": ["true"]}))),
    )
    yield Capture(
        "06-galley-orders-role.txt",
        _form(make.xml(make.answer("galley-orders", petrel, 13, 4, 47, attributes={"role": ["Cook"]}))),
    )
    yield Capture(
        "07-lost-property-claim-name.txt",
        _twice(
            make.xml(
                make.answer(
                    "lost-property", tern, 13, 13, 5, attributes={"urn:northmere:directory:Department": ["deck"]}
                )
            )
        ),
    )
    yield Capture(
        "08-claims-office-guest.txt",
        _form(
            make.xml(
                make.answer("claims-office", "nils.lunde_skerry-pilots.example~guest@northmere.example", 16, 8, 30)
            )
        ),
    )
    yield Capture("09-berth-planner-key-changed.txt", _form(make.xml(make.answer("berth-planner", fulmar, 17, 6, 2))))
    yield Capture(
        "10-fuel-ledger-fingerprint.txt", _form(make.xml(make.answer("fuel-ledger", dunlin, 17, 6, 15), "response"))
    )
    yield Capture("11-chart-room-works-indented.xml", _indented(make.xml(make.answer("chart-room", eider, 17, 12, 50))))
    late = make.answer("chart-room", eider, 18, 9, 30)
    yield Capture("12-chart-room-clock.txt", _form(make.xml(late)), late.issued - timedelta(minutes=9))
    yield Capture(
        "13-crew-roster-refused.txt",
        _form(
            make.xml(
                make.answer(
                    "crew-roster",
                    tern,
                    18,
                    15,
                    11,
                    status=(RESPONDER, REQUEST_DENIED),
                    status_message="N-2207 no assignment for this target",
                ),
                "response",
            )
        ),
    )
    yield Capture("14-claims-office-other-provider.txt", _form(_of_partner(make)))
    yield Capture(
        "15-galley-orders-edited.xml",
        _changed(make.xml(make.answer("galley-orders", petrel, 19, 16, 20)), lambda root: _set(root, "cook", "purser")),
    )
    yield Capture(
        "16-crew-roster-wrapped-signature.xml", _changed(make.xml(make.answer("crew-roster", tern, 20, 2, 33)), _wrap)
    )
    yield Capture(
        "17-berth-planner-format.txt",
        _form(
            make.xml(
                make.answer(
                    "berth-planner",
                    "_7f3a90c2d1",
                    10,
                    11,
                    11,
                    name_id_format=TRANSIENT,
                    attributes={"mail": [fulmar]},
                    answers_request=False,
                )
            )
        ),
    )
    yield Capture("18-ticket-desk-cut-off.txt", _form(make.xml(make.answer("ticket-desk", plover, 20, 8, 1)))[:2048])
    yield Capture("19-crew-roster-works-again.txt", _json(make.xml(make.answer("crew-roster", tern, 20, 8, 14))))
    yield Capture(
        "20-ticket-desk-works-from-portal.txt",
        _form(make.xml(make.answer("ticket-desk", plover, 20, 11, 42, answers_request=False, authenticated=-5400))),
    )
    yield from _of_the_other_forms(make, keys)


def _of_the_other_forms(make: _Fortnight, keys: dict[str, SigningKey]) -> Iterator[Capture]:
    """Encrypted, asked for and signed out over redirects, WS-Federation, and values in the wrong field."""
    fulmar, dunlin = "a.fulmar@northmere.example", "k.dunlin@northmere.example"
    eider, gannet = "e.eider@northmere.example", "j.gannet@northmere.example"
    cargo = keys["cargo-manifest"]
    yield Capture(
        "21-cargo-manifest-works-encrypted.txt",
        _form(encrypt(make.xml(make.answer("cargo-manifest", dunlin, 18, 6, 40)), cargo)),
    )
    yield Capture(
        "22-cargo-manifest-old-key.txt",
        _form(encrypt(make.xml(make.answer("cargo-manifest", fulmar, 18, 7, 5)), keys["cargo-manifest-2023"])),
    )
    yield Capture(
        "23-tide-tables-wrong-field.txt",
        _form(
            make.xml(make.answer("tide-tables", eider, 18, 8, 12, audience="https://tides.northmere.example/saml/acs"))
        ),
    )
    quay = keys["quay-passes"]
    asked = make.answer("quay-passes", gannet, 19, 5, 20)
    yield Capture("24-quay-passes-works-request-and-answer.txt", exchange(make.draw, asked, quay, keys["id-2026"]))
    yield Capture(
        "25-quay-passes-second-factor.txt",
        exchange(make.draw, make.answer("quay-passes", gannet, 19, 17, 31), quay, keys["id-2026"], demands=True),
    )
    yield Capture(
        "26-quay-passes-sign-out.txt",
        exchange(make.draw, make.answer("quay-passes", fulmar, 20, 7, 2), quay, keys["id-2026"], signs_out=True),
    )
    yield Capture(
        "27-harbour-radio-works-federation.txt",
        federation(make.draw, make.answer("harbour-radio", eider, 19, 9, 14), keys["id-2026"]),
    )
    retired = make.answer("harbour-radio", gannet, 20, 6, 55)
    yield Capture("28-harbour-radio-retired-key.txt", federation(make.draw, retired, keys["id-2025"]))
    yield Capture("29-galley-orders-artifact.txt", artifact(make.draw, PROVIDER, BY_ID["galley-orders"].acs_url))
    yield from token_captures(make.draw, keys)
    yield from exports(make, keys)
    yield from exports_ended(make, keys)


def _of_partner(make: _Fortnight) -> etree._Element:
    answer = make.answer("claims-office", "ida.holm@skerry-pilots.example", 19, 7, 25, issuer=PARTNER)
    return make.xml(answer, key="skerry")


def _raw(root: etree._Element) -> bytes:
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8")


def _encoded(root: etree._Element) -> bytes:
    return base64.b64encode(etree.tostring(root))


def _form(root: etree._Element) -> bytes:
    return urlencode({"SAMLResponse": _encoded(root).decode(), "RelayState": "ss:mem:4d1f"}).encode()


def _wrapped(root: etree._Element) -> bytes:
    text = _encoded(root)
    return b"\n".join(text[i : i + 72] for i in range(0, len(text), 72)) + b"\n"


def _twice(root: etree._Element) -> bytes:
    return quote(quote(_encoded(root).decode(), safe=""), safe="").encode()


def _json(root: etree._Element) -> bytes:
    return b'"' + _encoded(root) + b'",\n'


def _indented(root: etree._Element) -> bytes:
    etree.indent(root)
    return etree.tostring(root)


def _changed(root: etree._Element, change: Callable[[etree._Element], None]) -> bytes:
    change(root)
    return etree.tostring(root)


def _set(root: etree._Element, old: str, new: str) -> None:
    for value in root.iter(_A + "AttributeValue"):
        if value.text == old:
            value.text = new


def _wrap(root: etree._Element) -> None:
    """Move the signed assertion aside and put a forged one, without signature, in its place."""
    signed = root.find(_A + "Assertion")
    if signed is None:
        raise ValueError("the response holds no assertion to move")
    forged = etree.fromstring(etree.tostring(signed))
    for child in list(forged):
        if str(child.tag).endswith("}Signature"):
            forged.remove(child)
    forged.set("ID", f"_{zlib.crc32(str(signed.get('ID')).encode()):08x}f0")
    name = forged.find(f"{_A}Subject/{_A}NameID")
    if name is not None:
        name.text = "a.fulmar@northmere.example"
    index = root.index(signed)
    root.remove(signed)
    aside = etree.SubElement(root, "{urn:oasis:names:tc:SAML:2.0:protocol}Extensions")
    aside.append(signed)
    root.insert(index, forged)
