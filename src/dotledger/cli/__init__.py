"""The command line: one file for each command, nothing computed here."""

from __future__ import annotations

import gc
import os
import sys
import warnings
from importlib import import_module
from typing import Any

import click

from dotledger.errors import ArgumentError, DotLedgerError
from dotledger.reading.strict_toml import hinted
from dotledger.text_display import plain_text

__all__ = ["main", "run"]

_GROUPS = {
    "Start": (
        "start",
        {
            "demo": "run the whole workflow offline with made-up images and two simulated services",
            "simulate": "run simulated services on this machine, well-behaved or not",
            "draft": "draft a description from sample answers",
            "try": "make one test call and show the request, the answer, and how it is read",
            "doctor": "check the installation, trust a folder, upgrade a ledger, print a schema",
        },
    ),
    "Send": (
        "send",
        {
            "forecast": "estimate calls, time and cost before sending",
            "send": "send images to a service and keep every answer in a ledger",
            "batches": "list the batches, show one in detail, or sum calls and cost by month",
            "reread": "parse stored answers again with an edited description or mapping",
        },
    ),
    "Read": (
        "read",
        {
            "findings": "show or export findings",
        },
    ),
    "Look": (
        "look",
        {
            "report": "write an HTML report: measures, charts, the worst errors, every image",
            "show": "show everything about one image: file, calls, findings, errors",
            "search": "find images across all batches, by findings or outcome",
            "draw": "draw boxes on the images, with a contact sheet",
        },
    ),
    "Measure": (
        "measure",
        {
            "annotations": "read ground truth, report what was read, convert it",
            "measure": "measure findings against annotations: precision, recall, overlap",
            "persons": "measure names given to faces, and to strangers, at every similarity",
            "pairs": "measure whether pairs of pictures show the same person",
            "reliability": "check whether confidences are calibrated, and fit a correction",
        },
    ),
    "Choose": (
        "choose",
        {
            "choose": "show the effect of every threshold, or choose thresholds for an aim",
            "compare": "test whether runs differ, by how much, and on which images",
        },
    ),
    "Act": (
        "act",
        {
            "screen": "decide on every image by rules: pass, hold for a person, block",
            "review": "let a person decide on held images, on a page or a sheet",
            "sort": "sort images into folders by label, person, verdict, outcome or review",
            "copies": "find near-copies of known images",
            "cover": "cover faces, or anything else found, in copies of the images",
            "forget": "remove images, a person or old batches for good; the costs stay",
        },
    ),
    "Watch": (
        "watch",
        {
            "drift": "find changes between runs without annotations; watch all later rounds",
            "gate": "check the conditions that a release must meet",
        },
    ),
}
"""Commands under headings in the order of work; each group's files stand in its folder."""

_MOVED = {
    "check": "measure --also conventions",
    "schema": "doctor --schema NAME",
    "sweep": "choose, without --aim",
    "names": "findings --names FILE, or measure --names FILE",
    "upgrade": "doctor --upgrade",
    "usage": "batches --by month",
}
"""Commands of earlier versions, and where their work is done now."""

_FOLDERS = {name: folder for folder, commands in _GROUPS.values() for name in commands}


class _Lazy(click.Group):
    """Imports a command when it is used, so that every start is quick."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - click's signature
        return list(_FOLDERS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _FOLDERS:
            return None
        home = f"dotledger.cli.{_FOLDERS[cmd_name]}.{cmd_name}_command"
        command = import_module(home).command
        assert isinstance(command, click.Command)
        return command

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command; what the library calls an argument is named as its option."""
        try:
            return super().invoke(ctx)
        except DotLedgerError as error:
            from dotledger.cli.options.option_names import as_options, option_of

            command = self.get_command(ctx, ctx.invoked_subcommand or "")
            if isinstance(error, ArgumentError):
                error.place = option_of(error.place, command)
            error.next_step = as_options(error.next_step, command)
            error.message = as_options(error.message, command)
            raise

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Name the nearest command to one that there is not."""
        if args and args[0] in _MOVED:
            raise click.UsageError(f"{args[0]} is now: dotledger {_MOVED[args[0]]}", ctx)
        if args and args[0] not in _FOLDERS:
            raise click.UsageError(hinted(f"no such command: {args[0]}", args[0], _FOLDERS), ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        for heading, (_, commands) in _GROUPS.items():
            with formatter.section(heading):
                formatter.write_dl(list(commands.items()))


@click.group(
    cls=_Lazy,
    # From 8.2 on click takes a bare command for a mistake, and its help for the message.
    no_args_is_help=False,
    invoke_without_command=True,
    context_settings={
        "help_option_names": ["-h", "--help"],
        "max_content_width": 100,
    },
    epilog="Start with: dotledger demo. The words used are explained in docs/glossary.md.",
)
@click.version_option(package_name="dot-ledger")
@click.option("-v", "--verbose", is_flag=True, help="Log waits, retries, token renewals and stops.")
@click.pass_context
def main(ctx: click.Context, verbose: bool) -> None:
    """Send images to recognition services, keep every answer, measure how right it is.

    Options may stand in dotledger.toml, or in DOTLEDGER_COMMAND_OPTION.
    """
    from dotledger.cli.options.project_defaults import defaults_of, name_variables

    if ctx.invoked_subcommand is None:
        click.echo(ctx.get_help())
        return
    _tell(all_of_it=verbose)
    name = ctx.invoked_subcommand or ""
    asked = ctx.command.get_command(ctx, name) if isinstance(ctx.command, click.Group) else None
    if asked is not None:
        name_variables(name, asked)
        ctx.default_map = {name: defaults_of(name, asked, _FOLDERS)}


def _tell(*, all_of_it: bool) -> None:
    """Let warnings go to stderr; on request all that the library notes, with the time."""
    import logging

    log = logging.getLogger("dotledger")
    shown = logging.StreamHandler()
    shown.setLevel(logging.DEBUG if all_of_it else logging.WARNING)
    if all_of_it:
        shown.setFormatter(logging.Formatter("%(asctime)s %(message)s", "%H:%M:%S"))
        log.setLevel(logging.DEBUG)
    log.addHandler(shown)


def run() -> None:
    """Run the command line; the exit status is 0, 1, 2 or 3 as documented."""
    gc.set_threshold(50_000, 20, 20)  # what is loaded at the start stays anyway
    # What a decoder warns of is refused with its figures, or sound enough to be sent.
    warnings.filterwarnings("ignore", module=r"PIL\.")
    _make_streams_sure()
    try:
        sys.exit(main.main(standalone_mode=False) or 0)
    except DotLedgerError as error:
        click.echo(f"dotledger: {error}", err=True)
        sys.exit(error.exit_status)
    except click.exceptions.Exit as leaving:
        sys.exit(leaving.exit_code)
    except click.ClickException as error:
        if isinstance(error, click.UsageError) and error.ctx is not None:
            click.echo(error.ctx.get_usage(), err=True)
        click.echo(f"dotledger: {plain_text(error.format_message())}", err=True)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("dotledger: interrupted", err=True)
        sys.exit(130)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(0)
    except OSError as error:
        name = f"{error.filename}: " if error.filename else ""
        click.echo(plain_text(f"dotledger: {name}{error.strerror or error}"), err=True)
        sys.exit(2)


def _make_streams_sure() -> None:
    """Let nothing that is printed fail: not where a stream is closed or its letters are few."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
