"""What ends when, whom it hits, and who is ready for what comes after."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given
from hypothesis import strategies as st

from kit import certificate, key, run, run_json
from strict_schemas import conforms
from trace_lens.common.locations import Location
from trace_lens.demo.tokens import public_jwk
from trace_lens.fleet.dates import Ending, Hit, endings, within
from trace_lens.render.calendar import write_calendar
from trace_lens.render.openmetrics import write_metrics
from trace_lens.workspace.loading import load_workspace

NOW = "2026-11-22T12:00:00Z"
MOMENT = datetime(2026, 11, 22, 12, tzinfo=UTC)


def pem(name: str, begins: str, ends: str) -> str:
    return certificate(name, begins, ends).public_bytes(Encoding.PEM).decode()


@pytest.fixture
def house(tmp_path: Path) -> Path:
    """A provider with a certificate that ends and a next one, and applications that are ready, not, or fetch it."""
    (tmp_path / "trace-lens.toml").write_text("")
    for folder in ("apps", "providers", "certs", "keys"):
        (tmp_path / folder).mkdir()
    (tmp_path / "certs" / "old.pem").write_text(pem("old", "2025-01-01", "2026-12-02"))
    (tmp_path / "certs" / "next.pem").write_text(pem("next", "2026-11-01", "2028-11-01"))
    (tmp_path / "certs" / "gone.pem").write_text(pem("gone", "2020-01-01", "2021-01-01"))
    (tmp_path / "providers" / "id.toml").write_text(
        'name = "ID"\nentity_id = "https://id.northmere.example/saml"\n'
        'certificates = ["certs/old.pem", "certs/next.pem"]\n'
    )
    for name, lines in {
        "both": 'trusted_certificates = ["certs/old.pem", "certs/next.pem"]',
        "old-only": 'trusted_certificates = ["certs/old.pem"]',
        "fetching": 'trust_from = "metadata"',
        "nothing-told": "",
        "left-over": 'trusted_certificates = ["certs/gone.pem", "certs/next.pem"]',
    }.items():
        (tmp_path / "apps" / f"{name}.toml").write_text(
            f'name = "{name.title()}"\nprotocol = "saml"\nprovider = "id"\n[application]\n'
            f'entity_id = "https://{name}.northmere.example/"\n{lines}\n'
        )
    (tmp_path / "apps" / "web.toml").write_text(
        'name = "Web"\nprotocol = "oidc"\nprovider = "id"\n[application]\nclient_id = "web"\nsecret_expires = 2026-12-24\n'
    )
    return tmp_path


def expiry(folder: Path, *options: str) -> tuple[int, dict[str, Any]]:
    code, told = run_json("expiry", "--now", NOW, *options, folder=folder)
    conforms(told, "expiry")
    return code, told


def test_what_ends_within_the_time_and_whom_it_hits(house: Path) -> None:
    code, told = expiry(house)
    assert code == 1
    assert told["within_days"] == 60
    assert [(one["what"].split()[0], one["days"], one["ready"]) for one in told["dates"]] == [
        ("pinned", -2152, "yes"),
        ("signing", 9, "no"),
        ("client", 31, "unknown"),
    ]
    old = told["dates"][1]
    assert {hit["app"]: hit["how"] for hit in old["hits"]} == {
        "both": "pins it",
        "old-only": "pins it",
        "fetching": "takes it from the metadata",
        "nothing-told": "takes it from the metadata",
    }
    assert (old["kind"], old["provider"], old["app"], old["purpose"], old["file"]) == (
        *("certificate", "id", None, "signing", "certs/old.pem"),
    )
    assert told["dates"][2]["hits"] == [{"app": "web", "how": "proves with it who it is"}]


def test_who_is_ready_for_the_next_key(house: Path) -> None:
    _, told = expiry(house)
    (change,) = told["rollovers"]
    assert change["next"]["file"] == "certs/next.pem"
    assert {ready["app"]: ready["state"] for ready in change["apps"]} == {
        "both": "ready",
        "old-only": "not-ready",
        "fetching": "fetches",
        "nothing-told": "unknown",
        "left-over": "ready",
    }


@pytest.mark.parametrize(
    ("span", "count", "code"),
    [("1d", 1, 1), ("9d", 1, 1), ("10d", 2, 1), ("31d", 2, 1), ("32d", 3, 1), ("3650d", 4, 1)],
)
def test_the_time_decides(house: Path, span: str, count: int, code: int) -> None:
    status, told = expiry(house, "--within", span)
    assert (status, len(told["dates"])) == (code, count)
    assert [one["at"] for one in told["dates"]] == sorted(one["at"] for one in told["dates"])


def test_nothing_ends_soon(house: Path) -> None:
    (house / "apps" / "left-over.toml").unlink()
    done = run("expiry", "--now", "2026-10-01T00:00:00Z", folder=house)
    assert done.returncode == 0
    assert done.stdout.decode().startswith("CLEAR: Nothing on record ends within 60")
    assert "signing certificate" in done.stdout.decode()


def test_a_workspace_where_nothing_is_changing_has_no_rollover(house: Path) -> None:
    (house / "providers" / "id.toml").write_text('name = "ID"\ncertificates = ["certs/next.pem"]\n')
    for name in ("both", "old-only", "left-over"):
        file = house / "apps" / f"{name}.toml"
        file.write_text(
            re.sub(r"trusted_certificates = .*", 'trusted_certificates = ["certs/next.pem"]', file.read_text())
        )
    code, told = expiry(house)
    assert told["rollovers"] == []
    assert [one["kind"] for one in told["dates"]] == ["client-secret"]
    assert code == 1


def test_a_pinned_fingerprint_is_known_by_the_certificate_on_record(house: Path) -> None:
    print_of = (
        certificate("old", "2025-01-01", "2026-12-02")
        .fingerprint(__import__("cryptography").hazmat.primitives.hashes.SHA256())
        .hex()
    )
    (house / "providers" / "id.toml").write_text('name = "ID"\ncertificates = ["certs/next.pem"]\n')
    file = house / "apps" / "old-only.toml"
    file.write_text(file.read_text().replace('["certs/old.pem"]', f'["sha256:{print_of}"]'))
    _, told = expiry(house)
    hits = {(hit["app"], hit["how"]) for one in told["dates"] for hit in one["hits"]}
    assert ("old-only", "pins its fingerprint") in hits


def test_the_calendar(house: Path) -> None:
    done = run("expiry", "--now", NOW, "--format", "ics", folder=house)
    text = done.stdout.decode()
    assert done.returncode == 1
    lines = text.split("\r\n")
    assert (lines[0], lines[-2], lines[-1]) == ("BEGIN:VCALENDAR", "END:VCALENDAR", "")
    assert all(len(line.encode()) <= 75 for line in lines)
    assert "\n" not in text.replace("\r\n", "")
    assert text.count("BEGIN:VEVENT") == text.count("END:VEVENT") == 4
    whole = text.replace("\r\n ", "")
    uids = re.findall(r"UID:(\S+)", whole)
    assert len(set(uids)) == 4
    later = run("expiry", "--now", "2027-02-01T00:00:00Z", "--format", "ics", folder=house).stdout.decode()
    assert re.findall(r"UID:(\S+)", later.replace("\r\n ", "")) == uids
    assert "DTSTART;VALUE=DATE:20261224" in whole
    assert not re.search(r"TZID|VTIMEZONE", whole)


def test_metrics(house: Path) -> None:
    done = run("expiry", "--now", NOW, "--format", "openmetrics", folder=house)
    lines = done.stdout.decode().splitlines()
    assert lines[-1] == "# EOF"
    assert lines[0] == "# TYPE trace_lens_expiry_timestamp_seconds gauge"
    values = [line for line in lines if not line.startswith("#")]
    assert len(values) == len({line.rpartition(" ")[0] for line in values}) == 4
    pattern = r'trace_lens_expiry_timestamp_seconds\{kind="[^"]+",provider="[^"]*",app="[^"]*",what="[^"]*"\} \d+'
    assert all(re.fullmatch(pattern, line) for line in values)


def test_tables(house: Path) -> None:
    rows = run("expiry", "--now", NOW, "--format", "csv", folder=house).stdout.decode().splitlines()
    assert rows[0] == "at,days,kind,what,provider,app,purpose,sha256,file,where,hits,ready"
    assert len(rows) == 4
    assert "old-only (pins it)" in rows[2]
    lines = run("expiry", "--now", NOW, "--format", "jsonl", folder=house).stdout.decode().splitlines()
    assert [json.loads(line)["kind"] for line in lines] == ["certificate", "certificate", "client-secret"]
    assert "| ends |" in run("expiry", "--now", NOW, "--format", "markdown", folder=house).stdout.decode()


def test_wrong_use(tmp_path: Path) -> None:
    done = run("expiry", folder=tmp_path)
    assert (done.returncode, done.stdout) == (2, b"")
    assert b"no workspace" in done.stderr
    (tmp_path / "trace-lens.toml").write_text("")
    assert run("expiry", "--within", "soon", folder=tmp_path).returncode == 2
    assert run("expiry", folder=tmp_path).stdout.startswith(b"CLEAR")


def test_each_date_stands_in_what_it_says(demo: Path) -> None:
    """Every certificate and secret on record is there, whatever the time; and each was read from the file it names."""
    workspace = load_workspace(demo)
    found = endings(workspace)
    assert found == sorted(found, key=lambda ending: ending.at)
    assert all((demo / ending.file).is_file() for ending in found)
    pinned = {name for app in workspace.apps.values() for name in app.settings.application.saml.trusted_certificates}
    assert {name for name in pinned if name.endswith(".pem")} <= {
        file for ending in found for file in (ending.file, *_others(ending, demo))
    }
    secrets = [app.id for app in workspace.apps.values() if app.settings.application.oidc.secret_expires]
    assert [ending.app for ending in found if ending.kind == "client-secret"] == secrets


def _others(ending: Ending, demo: Path) -> list[str]:
    """The other files that hold the same certificate."""
    from trace_lens.pki.certificates import certificate_or_none
    from trace_lens.pki.pem import certificates_in

    held = {}
    for path in (demo / "certs").iterdir():
        for pasted in certificates_in(path.read_bytes()):
            read = certificate_or_none(pasted.der)
            if read:
                held[f"certs/{path.name}"] = str(read.sha256)
    return [name for name, print_of in held.items() if print_of == ending.sha256]


NAMES = st.text(min_size=1, max_size=30)


@given(
    st.lists(
        st.builds(
            Ending,
            at=st.datetimes(min_value=datetime(1950, 1, 1), max_value=datetime(9999, 12, 31), timezones=st.just(UTC)),
            kind=st.sampled_from(["certificate", "client-secret", "metadata", "key-set"]),
            what=NAMES,
            provider=st.none() | NAMES,
            app=st.none() | NAMES,
            purpose=st.sampled_from([None, "signing"]),
            sha256=st.none() | NAMES,
            file=NAMES,
            where=st.just(Location(line=1)),
            hits=st.lists(st.builds(Hit, NAMES, NAMES), max_size=3).map(tuple),
            ready=st.sampled_from(["yes", "no", "unknown"]),
        ),
        max_size=5,
    )
)
def test_whatever_the_names_the_forms_hold(found: list[Ending]) -> None:
    """No name ends a line or a label early; what lies in the past is always within."""
    calendar = write_calendar(found, MOMENT)
    assert all(len(line.encode("utf-8", "surrogatepass")) <= 75 for line in calendar.split("\r\n"))
    plain = calendar.replace("\r\n ", "").split("\r\n")
    assert all(re.match(r"[A-Z-]+[;:]|$", line) for line in plain)
    metrics = write_metrics(found).split("\n")
    assert metrics[-2:] == ["# EOF", ""]
    assert all(line.startswith(("#", "trace_lens_expiry_timestamp_seconds{")) for line in metrics[:-1])
    near = within(found, MOMENT, timedelta(days=3))
    assert all(
        (ending in near) == (ending.days(MOMENT) < 3 or ending.at == MOMENT + timedelta(days=3)) for ending in found
    )


@pytest.mark.parametrize("form", ["png", "svg"])
def test_the_figure_of_the_year(house: Path, form: str) -> None:
    done = run("expiry", "--now", NOW, "--figure", f"year.{form}", folder=house)
    data = (house / f"year.{form}").read_bytes()
    assert done.returncode == 1
    assert data.startswith(b"\x89PNG" if form == "png" else b"<?xml")
    if form == "svg":
        words = data.decode()
        assert "client secret of Web" in words
        assert "in 31 days: 1 application" in words
        assert "not ready" in words
        assert "2028" not in words


def test_a_figure_of_nothing(tmp_path: Path) -> None:
    (tmp_path / "trace-lens.toml").write_text("")
    done = run("expiry", "--figure", "year.png", folder=tmp_path)
    assert done.returncode == 2
    assert b"nothing on record ends within a year" in done.stderr


def test_a_key_set_with_a_next_key(house: Path) -> None:
    """The next key is the one that older snapshots do not hold, whatever the order."""
    old, new = public_jwk(key("tokens-old"), "2025"), public_jwk(key("tokens-new"), "2026")
    (house / "keys" / "set.json").write_text(json.dumps({"keys": [old]}))
    with (house / "providers" / "id.toml").open("a") as stream:
        stream.write('key_set = "keys/set.json"\nissuer = "https://id.northmere.example"\n')
    with (house / "apps" / "web.toml").open("a") as stream:
        stream.write('discovery_url = "https://id.northmere.example/.well-known/openid-configuration"\n')
    _, told = expiry(house)
    assert not [change for change in told["rollovers"] if "kid" in change["next"]]
    run("drift", "keys/set.json", "--now", NOW, folder=house)
    (house / "keys" / "set.json").write_text(json.dumps({"keys": [new, old]}))
    _, told = expiry(house)
    (change,) = [change for change in told["rollovers"] if "kid" in change["next"]]
    assert change["next"] == {"kid": "2026", "file": "keys/set.json"}
    assert [(ready["app"], ready["state"]) for ready in change["apps"]] == [("web", "fetches")]
    assert "who is ready for key 2026" in run("expiry", "--now", NOW, folder=house).stdout.decode()
