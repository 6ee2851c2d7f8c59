"""larktally watch FILE[:NAME]: runs it again at each save, on a page with the run before."""

from __future__ import annotations

import webbrowser
from pathlib import Path

import click

from larktally.cli.outcome import echo, report_errors
from larktally.names import existing_file
from larktally.runs.targets import split_target


@click.command()
@click.argument("target", metavar="FILE[:NAME]", required=False, default="")
@click.option("--port", type=click.IntRange(0, 65535), default=0, metavar="N", help="The port. [default: a free one]")
@click.option("--no-browser", is_flag=True, help="Print the address alone.")
@click.option("--beside", type=click.Path(path_type=Path), metavar="TRACE", help="Lay this trace behind each run.")
@click.option("--build", default="", metavar="WORD", help="What kept runs are said to be made with.")
@click.option(
    "--plain", is_flag=True, help="No page: verdicts and measures in this terminal, and one picture kept fresh."
)
@click.option(
    "--listen",
    type=click.IntRange(1, 65535),
    metavar="PORT",
    help="No FILE: show a game that runs by itself and connects to this port, and keep it as a trace.",
)
@report_errors
def command(
    target: str, port: int, no_browser: bool, beside: Path | None, build: str, plain: bool, listen: int | None
) -> None:
    """Run a file's scenario at each save of it, or of what it reads from its folder, and show the new run over the one before:
    scrub through it, turn its numbers, play it, and keep what was played.

    The page is on this machine alone, at the address that is printed. Ctrl-C ends it.
    """
    from larktally.watch.session import Watched

    if bool(target) == (listen is not None):
        raise click.UsageError("watch takes FILE[:NAME], or --listen PORT for a game that runs by itself")
    if listen is not None:
        _listen(listen, port, no_browser)
        return
    existing_file(split_target(target)[0])
    if beside is not None:
        existing_file(beside)
    watched = Watched(target, build, str(beside or ""), "traces" if plain else "")
    if plain:
        from larktally.watch.terminal import watch_in_terminal

        watch_in_terminal(watched, echo)
        return
    from larktally.watch.server import PageServer

    server = PageServer(watched, port)
    echo(f"{target}: {server.address}\n  saved, it is run again; Ctrl-C ends it")
    if not no_browser:
        # One that cannot be opened is no fault: the address stands above.
        webbrowser.open(server.address)
    server.serve()


def _listen(listen: int, port: int, no_browser: bool) -> None:
    """A game that connects, on the page for as long as it runs."""
    from larktally.watch.live_session import LiveSession
    from larktally.watch.server import PageServer

    server = PageServer(LiveSession(listen, Path("traces"), echo), port)
    echo(f"listening on port {listen}: {server.address}\n  each game that connects is kept in traces; Ctrl-C ends it")
    if not no_browser:
        webbrowser.open(server.address)
    server.serve()
