"""The command line: one module a command, loaded when it is called, so that --help answers at once."""

from __future__ import annotations

import gc
import importlib
from typing import Any

import click

__all__ = ["main"]

# By what is wanted of them; the first are the ones to begin with.
_GROUPS = {
    "Begin": {
        "new": "Write a small working project, or a test of a tester's report.",
        "watch": "Run a file at each save, on a page: look, turn a number, play, keep.",
        "run": "Record the scenarios of files and folders, and check their claims.",
        "why": "What made a row what it is: rules, guards, and who set which value.",
        "demo": "Record, check, replay and draw the lamplighter example.",
    },
    "Look": {
        "show": "Show a trace's frames as a table.",
        "plot": "Draw a run: a picture, or a page that stands alone.",
        "chart": "Show a machine's rules, its diagram, and what traces visited of it.",
        "numbers": "The named measures and windows of all scenarios, one a line.",
        "durations": "In which frame a time ends, exact and summed, at several rates.",
    },
    "Judge": {
        "check": "Check the claims of a TOML file on a trace, a log or a folder.",
        "audit": "What is odd although no claim asked: the run, its model, the run again.",
        "compare": "Compare two traces: divergence, channels, events moved, lags.",
        "replay": "Run a trace's own inputs again and report the first divergence.",
    },
    "Search": {
        "vary": "Run a scenario with many values; where do its claims turn?",
        "explore": "Look for inputs that reach every state and rule, or break a claim.",
        "shrink": "The fewest presses and frames that still break a claim.",
    },
    "Connect": {
        "check-program": "Whether a program in another language is a good subject.",
        "convert": "Convert a trace between the file formats, or recover one.",
    },
}
_COMMANDS = {name: told for group in _GROUPS.values() for name, told in group.items()}


class _Commands(click.Group):
    """A group that knows its commands by name, and loads the one that is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        command = _kept(f"larktally.cli.{cmd_name.replace('-', '_')}").command
        assert isinstance(command, click.Command)
        return command

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        # --help and --version print from here.
        try:
            return super().parse_args(ctx, args)
        except BrokenPipeError:
            raise
        except OSError as error:
            from larktally.cli.outcome import report_unwritten

            report_unwritten(error)
            raise

    def invoke(self, ctx: click.Context) -> Any:
        # Before a command is loaded nothing else would keep a fault of ours from looking like a claim that is not kept.
        try:
            return super().invoke(ctx)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except (Exception, SystemExit) as error:
            from larktally.cli.outcome import last_resort, report_unwritten

            if isinstance(error, OSError):
                report_unwritten(error)
            last_resort(error)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group, commands in _GROUPS.items():
            with formatter.section(group):
                formatter.write_dl(list(commands.items()))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        # Click's own message names no other command.
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            from larktally.names import did_you_mean

            near = did_you_mean(args[0], _COMMANDS)
            raise click.UsageError(f"no command {args[0]!r}{near or '; there are: ' + ', '.join(_COMMANDS)}", ctx)
        return super().resolve_command(ctx, args)


def _kept(module: str) -> Any:
    """A module, loaded with all that it needs and kept until the end: nobody has to look through it for what could go."""
    # To look again and again, while it is loaded, and once more at the end is a fifth of what a short command takes.
    collects = gc.isenabled()
    gc.disable()
    try:
        return importlib.import_module(module)
    finally:
        gc.freeze()
        if collects:
            gc.enable()


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="lark-tally", message="larktally %(version)s")
def main() -> None:
    """Run gameplay headless at a fixed timestep, keep every frame, play it again, and learn in which frame, which value,
    and why a run left the expected path.

    Exit status: 0 all well; 1 a claim is not kept, or runs differ; 2 bad usage or bad input; 3 the subject failed;
    70 a fault of larktally's own; 130 interrupted.
    """
