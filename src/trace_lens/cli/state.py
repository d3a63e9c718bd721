"""`trace-lens` alone: the three ways to begin, or the state of the workspace."""

from __future__ import annotations

from datetime import UTC, datetime

from trace_lens.cli.options import open_workspace, report_settings, say

_BEGIN = """There is no workspace here. Three ways to begin:

  trace-lens demo northmere            a made-up company with sign-ins that fail: look around
  trace-lens diagnose network.har      what a capture alone says
  trace-lens apps add --from FILE      put both sides on record, from a capture or metadata

All commands: trace-lens --help"""


def show_state() -> int:
    """Say how to begin, or what is on record."""
    workspace = open_workspace(None)
    if workspace.root is None:
        say(_BEGIN)
        return 0
    from trace_lens.common.moments import show_duration
    from trace_lens.estate.state import state_of
    from trace_lens.workspace.problems import SettingsError

    now = datetime.now(UTC)
    try:
        state = state_of(workspace, now)
    except SettingsError as error:
        report_settings(error)
        return 2
    kinds = {"saml": "SAML", "oidc": "OpenID Connect"}
    by_protocol = ", ".join(f"{count} {kinds[protocol]}" for protocol, count in sorted(state.apps.items()))
    count = sum(state.apps.values())
    newest = ", ".join(name for name, _ in state.newest)
    say(f"Workspace {workspace.root}")
    say(f"  applications  {count}{f' ({by_protocol})' if by_protocol else ''}; providers {state.providers}")
    say(f"  captures      {f'{state.captures} in captures/, newest {newest}' if newest else 'none in captures/'}")
    say(f"  logs          {'loaded: trace-lens logs list' if state.has_logs else 'none loaded: trace-lens logs load'}")
    if state.ends:
        say(f"  ends next     {state.ends.what}, in {show_duration(state.ends.at - now)} ({state.ends.at:%Y-%m-%d})")
    else:
        say("  ends next     nothing with a date to come is on record")
    broken = ", ".join(state.breaking[:6]) + (" …" if len(state.breaking) > 6 else "")
    say(f"  settings      {f'break sign-ins at {broken}: trace-lens apps check' if broken else 'nothing breaks'}")
    return 0
