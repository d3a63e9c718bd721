"""What an authorization request asks of single claims: its `claims` parameter (OpenID Connect Core 1.0 §5.5)."""

from __future__ import annotations

from typing import Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.strict_json import JsonDamaged, read_json


class ClaimAsked(NamedTuple):
    """One claim asked for: where it is wanted (`id_token` or `userinfo`), whether it is essential, and the values of
    which one is asked for (none: any).
    """

    name: str
    member: str
    essential: bool
    values: tuple[str, ...]


def read_claims_request(value: str) -> tuple[ClaimAsked, ...]:
    """The claims that a `claims` parameter asks for. Raises JsonDamaged where it is no JSON object."""
    document = read_json(value.encode("utf-8", "surrogatepass")).value
    if not isinstance(document, dict):
        raise JsonDamaged("it is no JSON object")
    return tuple(
        _asked(name, member, told)
        for member in ("id_token", "userinfo")
        if isinstance(asked := document.get(member), dict)
        for name, told in asked.items()
    )


def _asked(name: str, member: str, told: Any) -> ClaimAsked:
    if not isinstance(told, dict):
        return ClaimAsked(name, member, False, ())
    listed = told.get("values")
    values = [told["value"]] if "value" in told else listed if isinstance(listed, list) else []
    return ClaimAsked(name, member, told.get("essential") is True, tuple(str(value) for value in values))
