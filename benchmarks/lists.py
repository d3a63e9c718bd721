"""Large inputs: metadata of a federation, and a long account list; whole processes, beside the bare reading of each."""

from __future__ import annotations

import base64
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from trace_lens.demo.workspace import make_keys, write_settings

ENTITIES = 12_000
ACCOUNTS = 500_000
RUNS = 3
_MD = "urn:oasis:names:tc:SAML:2.0:metadata"
_BINDING = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"


def federation(wanted: str, certificate: str) -> bytes:
    """Metadata of many service providers, with one identity provider near the end; about 50 MB."""
    draw = random.Random(1)
    filler = base64.b64encode(draw.randbytes(1500)).decode()
    parts = [f'<md:EntitiesDescriptor xmlns:md="{_MD}" xmlns:ds="http://www.w3.org/2000/09/xmldsig#">']
    for number in range(ENTITIES):
        host = f"https://sp{number}.example"
        role = (
            f"<md:KeyDescriptor><ds:KeyInfo><ds:X509Data><ds:X509Certificate>{filler}</ds:X509Certificate></ds:X509Data>"
            "</ds:KeyInfo></md:KeyDescriptor>"
            + "".join(
                f'<md:AssertionConsumerService Binding="{_BINDING}" Location="{host}/acs/{index}" index="{index}"/>'
                for index in range(12)
            )
        )
        parts.append(
            f'<md:EntityDescriptor entityID="{host}/saml"><md:SPSSODescriptor protocolSupportEnumeration='
            f'"urn:oasis:names:tc:SAML:2.0:protocol">{role}</md:SPSSODescriptor></md:EntityDescriptor>\n'
        )
    idp = (
        f'<md:EntityDescriptor entityID="{wanted}"><md:IDPSSODescriptor protocolSupportEnumeration='
        '"urn:oasis:names:tc:SAML:2.0:protocol"><md:KeyDescriptor use="signing"><ds:KeyInfo><ds:X509Data>'
        f"<ds:X509Certificate>{certificate}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>"
        f'<md:SingleSignOnService Binding="{_BINDING}" Location="https://id.northmere.example/saml/sso"/>'
        "</md:IDPSSODescriptor></md:EntityDescriptor>"
    )
    parts.insert(ENTITIES - 5, idp)
    return ("".join(parts) + "</md:EntitiesDescriptor>").encode()


def seconds(command: list[str], folder: Path) -> float:
    """The fastest wall time of a command."""
    best = float("inf")
    for _ in range(RUNS):
        start = time.perf_counter()
        subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False)
        best = min(best, time.perf_counter() - start)
    return best


def main() -> None:
    """Measure and print."""
    program = str(Path(sys.executable).with_name("trace-lens"))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        keys = make_keys()
        write_settings(folder, keys)
        wanted = "https://id.northmere.example/saml"
        data = federation(wanted, keys["id-2026"].base64)
        (folder / "metadata/northmere-id.xml").write_bytes(data)
        provider = folder / "providers/northmere-id.toml"
        provider.write_text(provider.read_text() + f'entity_id = "{wanted}"\n')
        show = [program, "sides", "chart-room"]
        took = seconds(show, folder)
        script = "import lxml.etree as e\nfor _ in e.iterparse('metadata/northmere-id.xml'): pass"
        bare = seconds([sys.executable, "-c", script], folder)
        size = f"{ENTITIES + 1:,} in {len(data) / 1e6:.0f} MB"
        print(f"{took:6.2f} s  one entity of {size} found by its entity ID (to reach: 2)")
        print(f"{bare:6.2f} s  lxml alone, over the same file")

        draw = random.Random(2)
        rows = ["user,email,login,active"]
        for number in range(ACCOUNTS):
            login = f"{draw.choice('abcdefgh')}.person{number}"
            rows.append(f"{login}@northmere.example,{login}@northmere.example,{login},yes")
        (folder / "accounts/chart-room.csv").write_text("\n".join(rows) + "\n")
        names = [rows[number].split(",")[0] for number in draw.sample(range(1, ACCOUNTS), 200)]
        (folder / "names.txt").write_text("\n".join([*names, *(one.upper() for one in names[:50]), "nobody"]) + "\n")
        (folder / "metadata/northmere-id.xml").write_bytes(b"")
        provider.write_text(f'name = "Northmere ID"\nentity_id = "{wanted}"\nemail_domains = ["northmere.example"]\n')
        for words, command in (
            ("251 names against 500,000 accounts", [program, "identify", "chart-room", "names.txt"]),
            ("all 500,000 accounts", [program, "identify", "chart-room"]),
        ):
            print(f"{seconds(command, folder):6.2f} s  identify: {words} (to reach: 5)")
        script = "import csv\nfor _ in csv.reader(open('accounts/chart-room.csv')): pass"
        print(f"{seconds([sys.executable, '-c', script], folder):6.2f} s  Python's csv alone, over the same list")


if __name__ == "__main__":
    main()
