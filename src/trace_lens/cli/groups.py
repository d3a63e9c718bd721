"""Groups of commands whose help says in full what each command does."""

from __future__ import annotations

import click


class FullHelp(click.Group):
    """A group that lists its commands with the whole first sentence of each."""

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands in the help text."""
        with formatter.section("Commands"):
            formatter.write_dl(
                [
                    (name, " ".join((command.help or "").split("\n\n")[0].split()))
                    for name in self.list_commands(ctx)
                    if (command := self.get_command(ctx, name))
                ]
            )
