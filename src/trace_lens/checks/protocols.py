"""Which protocol a case is of, told without importing what belongs to the protocols."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeGuard

from trace_lens.checks.case import Case

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase


def of_saml(case: Case) -> TypeGuard[SamlCase]:
    """Whether a case is one of SAML."""
    return case.protocol == "saml"


def of_oidc(case: Case) -> TypeGuard[OidcCase]:
    """Whether a case is one of OpenID Connect."""
    return case.protocol == "oidc"
