"""Every check. A protocol's own are imported when a case of it comes."""

from __future__ import annotations

from functools import cache

from trace_lens.checks.case import Case
from trace_lens.checks.checking import Check, Round, StageAnswers, rounds_of, run_checks
from trace_lens.common import catalogue
from trace_lens.common.findings import Stage


def _of_saml() -> tuple[Check, ...]:
    from trace_lens.checks import admitted, assigned, entitled, identified, intended, logged
    from trace_lens.checks.saml import admitted as saml_admitted
    from trace_lens.checks.saml import (
        answered,
        assurance,
        authentic,
        covered,
        current,
        delivered,
        readable,
        request,
        signed_out,
    )
    from trace_lens.checks.saml import identified as saml_identified
    from trace_lens.checks.saml import intended as saml_intended
    from trace_lens.checks.way import blocked, clocks, cookies, ending, exposed, hops, interfaces, reachable

    return (
        *reachable.CHECKS,
        *cookies.CHECKS,
        *hops.CHECKS,
        *exposed.CHECKS,
        *blocked.CHECKS,
        *intended.CHECKS,
        *current.CHECKS,
        *clocks.CHECKS,
        *identified.CHECKS,
        *entitled.CHECKS,
        *assigned.CHECKS,
        *logged.CHECKS,
        *admitted.CHECKS,
        *ending.CHECKS,
        *interfaces.CHECKS,
        *readable.CHECKS,
        *answered.CHECKS,
        *delivered.CHECKS,
        *authentic.CHECKS,
        *covered.CHECKS,
        *saml_intended.CHECKS,
        *saml_identified.CHECKS,
        *saml_admitted.CHECKS,
        *request.CHECKS,
        *assurance.CHECKS,
        *signed_out.CHECKS,
    )


def _of_oidc() -> tuple[Check, ...]:
    from trace_lens.checks import admitted, assigned, entitled, identified, intended, logged
    from trace_lens.checks.oidc import admitted as oidc_admitted
    from trace_lens.checks.oidc import (
        answered,
        authentic,
        current,
        delivered,
        readable,
        redirected,
        signatures,
        signed_out,
        told_reasons,
    )
    from trace_lens.checks.oidc import entitled as oidc_entitled
    from trace_lens.checks.oidc import identified as oidc_identified
    from trace_lens.checks.oidc import intended as oidc_intended
    from trace_lens.checks.way import blocked, clocks, cookies, ending, exposed, hops, interfaces, reachable

    return (
        *reachable.CHECKS,
        *cookies.CHECKS,
        *hops.CHECKS,
        *exposed.CHECKS,
        *blocked.CHECKS,
        *intended.CHECKS,
        *clocks.CHECKS,
        *identified.CHECKS,
        *entitled.CHECKS,
        *assigned.CHECKS,
        *logged.CHECKS,
        *admitted.CHECKS,
        *ending.CHECKS,
        *interfaces.CHECKS,
        *readable.CHECKS,
        *answered.CHECKS,
        *redirected.CHECKS,
        *delivered.CHECKS,
        *told_reasons.CHECKS,
        *authentic.CHECKS,
        *signatures.CHECKS,
        *oidc_intended.CHECKS,
        *current.CHECKS,
        *oidc_identified.CHECKS,
        *oidc_entitled.CHECKS,
        *oidc_admitted.CHECKS,
        *signed_out.CHECKS,
    )


_OF_PROTOCOL = {"saml": _of_saml, "oidc": _of_oidc}


@cache
def checks_of(protocol: str) -> tuple[Check, ...]:
    """The checks that are asked of a sign-in by `saml` or `oidc`, in the order of their codes in the catalogue."""
    stages = list(Stage)

    def place(check: Check) -> tuple[int, int]:
        return stages.index(check.stage), catalogue.position_of(check.codes[0])

    return tuple(sorted(_OF_PROTOCOL[protocol](), key=place))


def ask_all(case: Case) -> dict[Stage, StageAnswers]:
    """Ask every check of a case; what comes of them, by stage."""
    return run_checks(_rounds(case.protocol), case)


@cache
def _rounds(protocol: str) -> tuple[Round, ...]:
    return rounds_of(checks_of(protocol))
