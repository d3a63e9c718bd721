"""The command line: options parsed, the core called, a renderer picked. Nothing is decided here.

Each command is a module of its own, imported when it is called, so that starting up stays quick.
"""

from __future__ import annotations

import gc
import importlib
import io
import os
import sys
from collections.abc import Sequence
from typing import Any

import click

from trace_lens.common.version import __version__

_COMMANDS = {
    "apps": "List, show, check, add and change applications.",
    "certs": "Show the certificates in any source, and which applications pin them.",
    "decode": "Show what each source is, and everything in it.",
    "compare": "Compare two attempts, metadata files or certificates.",
    "demo": "Write the demo workspace and run the full example on it.",
    "diagnose": "Diagnose each sign-in found in the sources.",
    "drift": "Show what changed in metadata, discovery documents and key sets, and whom it hits.",
    "probe": "Try what applications need, live: names, ports, TLS, documents, endpoints.",
    "fleet": "Show all applications: failure rates, when they changed, and shared causes.",
    "explain": "Explain a finding: why it happens, and how to repair it.",
    "identify": "Show which account each name leads to by the account rule.",
    "init": "Make an empty workspace with examples.",
    "logs": "Check, load, list and search sign-in logs.",
    "timeline": "Show attempts and their log events on one time axis.",
    "expiry": "Show what ends when, whom it hits, and who is ready for what comes after.",
    "rehearse": "Sign in with a test account, over plain forms, and diagnose the way.",
    "receive": "Catch a sign-in on this machine, and diagnose it.",
    "redact": "Make copies that can leave the house: secrets gone, people replaced.",
    "report": "Write a report of sign-ins to hand over.",
    "sides": "Show every value that both sides must share, side by side.",
}


class LazyGroup(click.Group):
    """A group whose commands are imported when they are called; listing them needs no import."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All command names, sorted."""
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import the module of a command."""
        if cmd_name not in _COMMANDS:
            return None
        module = importlib.import_module(f"trace_lens.cli.{cmd_name}")
        command: click.Command = module.command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands in the help text."""
        with formatter.section("Commands"):
            formatter.write_dl(sorted(_COMMANDS.items()))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Name the nearest command where the one typed does not exist."""
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            from trace_lens.common.difference import nearest

            near = nearest(args[0], sorted(_COMMANDS))
            hint = f"Did you mean {near}?" if near else "See trace-lens --help."
            ctx.fail(f"There is no command {args[0]!r}. {hint}")
        return super().resolve_command(ctx, args)


@click.group(
    cls=LazyGroup,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Start with: trace-lens demo",
    invoke_without_command=True,
)
@click.version_option(__version__, prog_name="trace-lens", message="%(prog)s %(version)s")
@click.pass_context
def group(context: click.Context) -> int | None:
    """Find out why a single sign-on failed, on whose side, and which value repairs it.

    Without a command: the state of the workspace, or how to begin.
    """
    if context.invoked_subcommand is not None:
        return None
    from trace_lens.cli.state import show_state

    return show_state()


def collect_rarely() -> None:
    """Look for garbage rarely: what is read from files is kept to the end, so among it there is none."""
    gc.set_threshold(200_000, 20, 100)


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command line and end the process with its exit status."""
    collect_rarely()
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # its idle threads cost half an import
    _end(_run(arguments))


def _run(arguments: Sequence[str] | None) -> int:
    """The exit status of the command line."""
    try:
        result: Any = group.main(
            args=list(arguments) if arguments is not None else None, prog_name="trace-lens", standalone_mode=False
        )
        sys.stdout.flush()
        return result if isinstance(result, int) else 0
    except click.exceptions.Exit as leaving:
        return leaving.exit_code
    except click.Abort:
        click.echo("Interrupted.", err=True)
        return 130
    except click.ClickException as error:
        shown = io.StringIO()
        error.show(shown)
        _tell(shown.getvalue())
        return 2
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        _tell(f"{error.filename or 'The output'}: {(error.strerror or str(error)).lower()}.")
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 2
    except Exception as error:
        from trace_lens.common.guarding import why

        words = why(error, "trace-lens")
        _tell(f"{words[0].upper()}{words[1:]}.")
        return 3


def _tell(text: str) -> None:
    """Lines on standard error; whatever they quote is made visible."""
    from trace_lens.common.masking import visible

    click.echo("\n".join(visible(line) for line in text.rstrip("\n").split("\n")), err=True)


def _end(status: int) -> None:
    """End the process at once: all is written, and taking down millions of objects one by one only costs time."""
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(status)
