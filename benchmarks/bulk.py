"""Diagnoses a second against the bare loop on the same messages: parse, digest and verify, of SAML and of tokens."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import random
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from lxml import etree

from trace_lens.demo.clients import CURRENT, ISSUER
from trace_lens.demo.messages import Answer, response
from trace_lens.demo.scenario import BY_ID, PROVIDER
from trace_lens.demo.tokens import sign
from trace_lens.demo.workspace import make_keys, write_settings
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

MESSAGES = 600
DS = "{http://www.w3.org/2000/09/xmldsig#}"
SAML = "{urn:oasis:names:tc:SAML:2.0:assertion}"


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


def bare_token(data: bytes, key: RSAPublicKey) -> None:
    """What no verifier of tokens can do without: decode, parse twice, verify."""
    octets, _, value = data.rpartition(b".")
    header, payload = octets.split(b".")
    for part in (header, payload):
        json.loads(base64.urlsafe_b64decode(part + b"=" * (-len(part) % 4)))
    key.verify(base64.urlsafe_b64decode(value + b"=" * (-len(value) % 4)), octets, padding.PKCS1v15(), hashes.SHA256())


def rate(run: Callable[[], object]) -> float:
    """Messages a second, the best of five runs."""
    best = float("inf")
    for _ in range(5):
        start = time.perf_counter()
        run()
        best = min(best, time.perf_counter() - start)
    return MESSAGES / best


def main() -> None:
    """Measure and print."""
    keys = make_keys()
    draw = random.Random(7)
    app = BY_ID["crew-roster"]
    answer = Answer(
        issuer=PROVIDER,
        audience=app.entity_id,
        acs_url=app.acs_url,
        name_id="m.tern@northmere.example",
        issued=datetime(2026, 11, 18, 8, 0, tzinfo=UTC),
        attributes={"role": ["mate"]},
    )
    messages = [etree.tostring(response(answer, keys["id-2026"], draw)) for _ in range(MESSAGES)]
    public = keys["id-2026"].private.public_key()
    with tempfile.TemporaryDirectory() as name:
        write_settings(Path(name), keys)
        workspace = load_workspace(Path(name))
        options = Options(datetime(2026, 11, 20, tzinfo=UTC))
        sources = [SourceFile(f"{number}.xml", data) for number, data in enumerate(messages)]
        outcomes = {one.outcome for one in diagnose_sources(sources[:5], workspace, options).diagnoses}
        assert outcomes == {"sound"}, outcomes
        floor = rate(lambda: [bare(data, public) for data in messages])
        one = rate(lambda: diagnose_sources(sources, workspace, options, workers=1))
        cores = os.cpu_count() or 1
        every = rate(lambda: diagnose_sources(sources, workspace, options, workers=cores))
        issued = int(datetime(2026, 11, 18, 8, 0, tzinfo=UTC).timestamp())
        claims = {
            "iss": ISSUER,
            "aud": "slip-booking-web",
            "iat": issued,
            "exp": issued + 3600,
            "sub": "40100",
            "email": "m.tern@northmere.example",
            "name": "M. Tern",
        }
        signer = keys[CURRENT].private
        tokens = [sign({**claims, "nonce": str(n)}, signer, kid=CURRENT).encode() for n in range(MESSAGES)]
        files = [SourceFile(f"{number}.txt", data) for number, data in enumerate(tokens)]
        outcomes = {one.outcome for one in diagnose_sources(files[:5], workspace, options).diagnoses}
        assert outcomes == {"sound"}, outcomes
        token_floor = rate(lambda: [bare_token(data, signer.public_key()) for data in tokens])
        token_one = rate(lambda: diagnose_sources(files, workspace, options, workers=1))
        token_every = rate(lambda: diagnose_sources(files, workspace, options, workers=cores))
    print(f"{floor:8.0f} a second  bare loop, one core (floor)")
    print(f"{one:8.0f} a second  diagnose, one core: {one / floor:.2f} of the floor (to reach: 0.50)")
    print(f"{every:8.0f} a second  diagnose, {cores} cores: {every / floor / cores:.2f} of the floor per core")
    print(f"{token_floor:8.0f} a second  bare loop over tokens, one core (floor)")
    print(f"{token_one:8.0f} a second  tokens, one core: {token_one / token_floor:.2f} of the floor (to reach: 0.50)")
    ratio = token_every / token_floor / cores
    print(f"{token_every:8.0f} a second  tokens, {cores} cores: {ratio:.2f} of the floor per core")


if __name__ == "__main__":
    main()
