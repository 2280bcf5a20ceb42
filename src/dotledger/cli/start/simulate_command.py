"""``dotledger simulate``."""

from __future__ import annotations

import threading
from contextlib import ExitStack
from pathlib import Path

import click

from dotledger.cli.options.common_options import example, print_table, replace_option, say
from dotledger.cli.options.folder_trust import remember_keys
from dotledger.errors import ArgumentError, MissingExtra
from dotledger.safe_files import check_output, check_output_folder, whole_file

__all__ = ["command"]


@click.command(
    name="simulate",
    epilog=example("dotledger simulate flint chalk --trouble rate=5,wait=2,error=10"),
)
@click.argument("names", nargs=-1)
@click.option(
    "--trouble",
    default="",
    metavar="LIST",
    help="What goes wrong, as NAME=NUMBER with commas; 'help' lists the names.",
)
@click.option(
    "--folder", default=".", show_default=True, help="Where the descriptions are written."
)
@click.option("--seconds", type=float, help="Stop by itself after so long.")
@replace_option
def command(
    names: tuple[str, ...], trouble: str, folder: str, seconds: float | None, replace: bool
) -> None:
    """Run simulated services on this machine for your own experiments.

    NAMES are flint, marl, chalk; all of them by default. A description of each is written,
    pointed at where it runs. Their keys are made up and open nothing. Ctrl-C stops them.
    """
    try:
        from dotledger.standins import evening_demo as evening
        from dotledger.standins.service_misbehaviour import Trouble, parse_trouble
    except ImportError as error:
        raise MissingExtra(
            "the simulated services need starlette and uvicorn",
            next_step="Run: pip install 'dot-ledger[demo]'",
        ) from error
    if trouble == "help":
        click.echo(_attributes(Trouble.__doc__ or ""))
        return
    for name in names:
        if name not in evening.MAKERS:
            raise ArgumentError("no such service", place="NAMES", got=name, allowed=evening.MAKERS)
    made = parse_trouble(trouble)
    check_output_folder(folder, place="--folder", replace=True)  # files of others may be there
    Path(folder).mkdir(exist_ok=True)
    files = {
        name: check_output(Path(folder) / f"{name}.toml", place="--folder", replace=replace)
        for name in names or evening.MAKERS
    }
    from dotledger.services.service_description import read_description

    with ExitStack() as stack:
        for name, path in files.items():
            up = stack.enter_context(evening.running(name, made))
            with whole_file(path) as file:
                file.write_text(evening.pointed_text(up), encoding="utf-8")
            remember_keys(read_description(path))  # its key opens nothing
            variable = f"{name.upper()}_{'CLIENT' if name == 'marl' else 'KEY'}"
            print_table(f"{name} at http://{up.host}:{up.port}, described in {path}")
            print_table(f"  export {variable}={up.service.key}")
        say("Ctrl-C stops them.")
        _wait(seconds)


def _wait(seconds: float | None) -> None:
    try:
        threading.Event().wait(seconds)
    except KeyboardInterrupt:
        say("stopped")


def _attributes(text: str) -> str:
    lines = text.partition("----------")[2].splitlines()[1:]
    return "\n".join(line[4:] for line in lines if line.strip())
