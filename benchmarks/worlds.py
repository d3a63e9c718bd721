"""What the figures of speed are measured on: messages of the demo's applications, and workspaces of many applications.

As a program it judges some messages of one kind, for counting instructions: worlds.py FOLDER KIND NUMBER.
"""

from __future__ import annotations

import base64
import hashlib
import json
import pickle
import random
import sys
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from lxml import etree

import export
from trace_lens.common.masking import Masks
from trace_lens.demo.captures import captures
from trace_lens.demo.clients import CURRENT, ISSUER
from trace_lens.demo.messages import Answer, response
from trace_lens.demo.scenario import BY_ID, PROVIDER
from trace_lens.demo.tokens import sign
from trace_lens.demo.workspace import make_keys, write_demo, write_settings
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.streaming import Streamed
from trace_lens.render.attempt_lines import AttemptLines
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

DS = "{http://www.w3.org/2000/09/xmldsig#}"
SAML = "{urn:oasis:names:tc:SAML:2.0:assertion}"
KINDS = ("forms", "xml", "broken", "tokens", *(f"{kind} lines" for kind in ("forms", "people", "broken", "tokens")))
"""What is judged in a summary, and what as JSON Lines."""
SUMMARY = 200
"""As many sources as make a summary."""
AT = datetime(2026, 11, 18, 8, 0, tzinfo=UTC)
_PEOPLE = ("m.tern", "a.fulmar", "k.gannet", "s.petrel")


class World:
    """Messages of each kind and the workspace that they are judged by; `key` is the one that signs.

    `people` are form posts that work, each of another person.
    """

    def __init__(self, folder: Path, key: RSAPublicKey, messages: dict[str, list[bytes]]) -> None:
        self.folder, self.key, self.messages = folder, key, messages
        self.workspace = load_workspace(folder)

    @property
    def forms(self) -> list[bytes]:
        """Form posts with a response that works."""
        return self.messages["forms"]

    @property
    def xml(self) -> list[bytes]:
        """The same as bare XML."""
        return self.messages["xml"]

    @property
    def broken(self) -> list[bytes]:
        """Form posts with a response whose audience lacks its slash."""
        return self.messages["broken"]

    @property
    def tokens(self) -> list[bytes]:
        """ID tokens that work."""
        return self.messages["tokens"]

    def judge(self, messages: list[bytes], *, brief: bool = False) -> set[str]:
        """Diagnose messages on one core, each a source of its own; what came of them."""
        sources = [SourceFile(f"{number}.txt", data) for number, data in enumerate(messages)]
        options = Options(datetime(2026, 11, 20, tzinfo=UTC))
        found = diagnose_sources(sources, self.workspace, options, 1, brief=brief)
        return {diagnosis.outcome for diagnosis in found.diagnoses}

    def lines(self, messages: list[bytes]) -> int:
        """Diagnose messages on one core, and write each as JSON Lines; the characters that were written."""
        sources = (SourceFile(f"{number}.txt", data) for number, data in enumerate(messages))
        stream = Streamed(self.workspace, Options(datetime(2026, 11, 20, tzinfo=UTC)))
        lines = AttemptLines(Masks())
        numbered = enumerate(stream.of(sources, 1), 1)
        return sum(
            len(lines.line(diagnosis, number, judged.again))
            for number, judged in numbered
            for diagnosis in judged.diagnoses
        )

    def keep(self) -> None:
        """Keep the messages for another process."""
        (self.folder / "messages.pickle").write_bytes(pickle.dumps(self.messages))


def make(folder: Path, count: int, applications: int) -> World:
    """A workspace of the demo with as many applications, and messages for one of each protocol."""
    keys = make_keys()
    folder.mkdir(parents=True, exist_ok=True)
    write_settings(folder, keys)
    like = (folder / "apps/crew-roster.toml").read_text()
    for number in range(applications - len(list((folder / "apps").glob("*.toml")))):
        other = like.replace("roster.northmere.example", f"app{number}.northmere.example")
        (folder / f"apps/app-{number}.toml").write_text(other.replace('"Crew Roster"', f'"App {number}"'))
    draw, app = random.Random(7), BY_ID["crew-roster"]
    answer = Answer(
        issuer=PROVIDER,
        audience=app.entity_id,
        acs_url=app.acs_url,
        name_id="m.tern@northmere.example",
        issued=AT,
        attributes={"role": ["mate"]},
    )
    xml = [etree.tostring(response(answer, keys["id-2026"], draw)) for _ in range(count)]
    names = [f"p{number:04d}@northmere.example" for number in range(count)]
    people = [etree.tostring(response(replace(answer, name_id=name), keys["id-2026"], draw)) for name in names]
    for file, rest in (("accounts", "{0},{0},p,yes\n"), ("assignments", "{0},grp-staff\n")):
        with (folder / file / "crew-roster.csv").open("a") as listed:
            listed.writelines(rest.format(name) for name in names)
    lost = replace(answer, audience=app.entity_id[:-1])
    broken = [etree.tostring(response(lost, keys["id-2026"], draw)) for _ in range(count)]
    issued = int(AT.timestamp())
    claims = {"iss": ISSUER, "aud": "slip-booking-web", "iat": issued, "exp": issued + 3600, "sub": "40100"}
    claims |= {"email": "m.tern@northmere.example", "name": "M. Tern"}
    signer = keys[CURRENT].private
    messages = {
        "xml": xml,
        "forms": [form(data) for data in xml],
        "people": [form(data) for data in people],
        "broken": [form(data) for data in broken],
        "tokens": [sign({**claims, "nonce": str(n)}, signer, kid=CURRENT).encode() for n in range(count)],
    }
    return World(folder, keys["id-2026"].private.public_key(), messages)


def form(xml: bytes) -> bytes:
    return b"SAMLResponse=" + quote(base64.b64encode(xml), safe="").encode()


def demo(folder: Path, *, logs: bool) -> Path:
    """The demo's workspace, with its logs loaded or without logs."""
    write_demo(folder)
    if logs:
        from trace_lens.cli import _run

        _run(["logs", "load", "--workspace", str(folder), "--output", str(folder / "loaded.txt")])
    return folder


def bare(data: bytes, key: RSAPublicKey) -> None:
    """What no verifier can do without: parse, canonicalise twice, digest, verify."""
    root = etree.fromstring(data)
    assertion = root.find(f"{SAML}Assertion")
    assert assertion is not None
    signature = assertion.find(f"{DS}Signature")
    assert signature is not None
    signed_info = etree.tostring(signature[0], method="c14n", exclusive=True)
    assertion.remove(signature)
    octets = etree.tostring(assertion, method="c14n", exclusive=True)
    digest = base64.b64encode(hashlib.sha256(octets).digest()).decode()
    assert digest == signature.findtext(f"{DS}SignedInfo/{DS}Reference/{DS}DigestValue")
    value = base64.b64decode(signature.findtext(f"{DS}SignatureValue") or "")
    key.verify(value, signed_info, padding.PKCS1v15(), hashes.SHA256())


def long_export(file: Path, megabytes: int, count: int) -> None:
    """A browser export with three sign-ins of the demo among much else."""
    signs = [one.data for one, _ in captures(make_keys()) if one.file[:2] in ("50", "51", "55")]
    entries = [entry for data in signs for entry in json.loads(data)["log"]["entries"]]
    entries.sort(key=lambda one: str(one["startedDateTime"]))
    with file.open("w") as stream:
        export.write_export(stream, entries, megabytes, count)


def _judged(folder: Path, data: bytes) -> None:
    known = load_workspace(folder / "plain")
    diagnose_sources([SourceFile("one", data)], known, Options(datetime(2026, 11, 20, tzinfo=UTC)), 1)


def _attributes(folder: Path, size: int) -> Callable[[], object]:
    values = {f"attribute-{number}": ["value"] for number in range(60 * size)}
    app = BY_ID["crew-roster"]
    answer = Answer(
        issuer=PROVIDER,
        audience=app.entity_id,
        acs_url=app.acs_url,
        name_id="m.tern@northmere.example",
        issued=AT,
        attributes=values,
    )
    data = etree.tostring(response(answer, make_keys()["id-2026"], random.Random(7)))
    return partial(_judged, folder, data)


def _hops(folder: Path, size: int) -> Callable[[], object]:
    way = next(one.data for one, _ in captures(make_keys()) if one.file[:2] == "50")
    told = json.loads(way)
    first = told["log"]["entries"][0]
    more = [
        json.loads(json.dumps(first).replace(first["request"]["url"], f"https://www.northmere.example/{n}"))
        for n in range(60 * size)
    ]
    told["log"]["entries"] += more
    return partial(_judged, folder, json.dumps(told).encode())


def _parts(folder: Path, size: int) -> Callable[[], object]:
    token = sign({"iss": ISSUER, "aud": "x", "sub": "1", "iat": 1, "exp": 2}, make_keys()[CURRENT].private).encode()
    return partial(_judged, folder, b"\n\n".join([token] * (4 * size)))


GROWING = {"the attributes of a message": _attributes, "the hops of a way": _hops, "the messages of a text": _parts}
"""What grows, with how it is made for a multiple of its least size."""


def main() -> None:
    """Judge some messages of a kind, or go through the floor."""
    folder, kind, number = Path(sys.argv[1]), sys.argv[2], int(sys.argv[3])
    messages = pickle.loads((folder / "messages.pickle").read_bytes())
    if kind == "floor":
        known = load_workspace(folder)
        from trace_lens.workspace import trust

        keys = [
            held.certificate.public_key for held in trust.pinned(known.apps["crew-roster"], known) if held.certificate
        ]
        for form in messages["forms"][:number]:
            data = base64.b64decode(unquote_to_bytes(form.partition(b"=")[2]))
            bare(data, keys[-1])  # type: ignore[arg-type]
        return
    world = World(folder, None, messages)  # type: ignore[arg-type]
    kind, _, lines = kind.partition(" ")
    if lines:
        world.lines(messages[kind][: SUMMARY + number])
    else:
        world.judge(messages[kind][: SUMMARY + number], brief=True)


if __name__ == "__main__":
    main()
