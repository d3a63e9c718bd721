"""A probe where there is no IPv4: run in a network namespace of its own, prints what came of each step as JSON."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

from cryptography.hazmat.primitives import serialization

from kit import run_json
from live_kit import issued, serving
from test_probe import Far, house


class Six(Far):
    """The provider and application, at ::1."""

    @property
    def base(self) -> str:
        return f"https://[::1]:{self.port[0]}"


def main(folder: Path) -> None:
    """Probe both applications of a house whose addresses are all IPv6."""
    authority = issued("An authority of the test", None)
    (folder / "ca.pem").write_bytes(authority[0].public_bytes(serialization.Encoding.PEM))
    os.environ["SSL_CERT_FILE"] = str(folder / "ca.pem")
    port: list[int] = []
    handler = type("Here", (Six,), {"port": port})
    with serving(folder, issued("here", authority, "::1"), handler, "::1") as number:
        port.append(number)
        house(folder, number, number, "[::1]")
        for path in folder.rglob("*.toml"):
            path.write_text(path.read_text().replace("localhost", "[::1]"))
        _, told = run_json("probe", "--all-apps", folder=folder)
    print(json.dumps([[step["what"], step["target"], step["status"], step["detail"]] for step in told["steps"]]))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
