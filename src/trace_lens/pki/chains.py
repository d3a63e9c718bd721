"""Chains: who issued a certificate, link by link, and whether that holds (RFC 5280 §6), by cryptography's verifier."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from cryptography import x509
from cryptography.x509 import verification

from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.certificates import Certificate


class Chain(NamedTuple):
    """The certificates from one to the top of those at hand. `holds` is None where the top is not a root.

    `reason` says why it does not hold, or what is lacking.
    """

    links: tuple[Certificate, ...]
    holds: bool | None
    reason: str = ""


def chain_of(leaf: Certificate, at_hand: Iterable[Certificate], at: datetime) -> Chain | None:
    """The chain of a certificate among those at hand, as of a moment; None for one that issued itself."""
    if leaf.self_issued:
        return None
    pool = [certificate for certificate in at_hand if certificate != leaf]
    links = [leaf]
    while not links[-1].self_issued and len(links) <= len(pool) + 1:
        above = [
            certificate for certificate in pool if certificate.subject == links[-1].issuer and certificate not in links
        ]
        if not above:
            return Chain(tuple(links), None, f"{links[-1].issuer}, which issued it, is not among the certificates here")
        links.append(next((certificate for certificate in above if certificate.signed(links[-1])), above[0]))
    roots = [certificate.as_x509 for certificate in pool if certificate.self_issued]
    between = [certificate.as_x509 for certificate in pool if not certificate.self_issued]
    try:
        _verifier(roots, at).verify(leaf.as_x509, between)
    except (verification.VerificationError, ValueError) as error:
        return Chain(tuple(links), False, _plain(str(error)))
    return Chain(tuple(links), True)


def _verifier(roots: list[x509.Certificate], at: datetime) -> verification.ClientVerifier:
    """Any use of a key is let pass: certificates that sign messages rarely say what they are for."""
    anything = verification.ExtensionPolicy.permit_all()
    authority = anything.require_present(x509.BasicConstraints, verification.Criticality.AGNOSTIC, None)
    builder = verification.PolicyBuilder().store(verification.Store(roots)).time(at)
    return builder.extension_policies(ca_policy=authority, ee_policy=anything).build_client_verifier()


def _plain(message: str) -> str:
    """The verifier's message without its own dressing."""
    bare = message.removeprefix("validation failed: ").removeprefix("candidates exhausted: ")
    return bare.partition(" (encountered processing")[0]
