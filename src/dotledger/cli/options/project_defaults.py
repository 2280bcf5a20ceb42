"""Options that stand in a file: the project's own ``dotledger.toml``, and the user's."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.folder_trust import is_trusted, may_set, owned_project
from dotledger.errors import DescriptionError
from dotledger.reading.strict_toml import hinted
from dotledger.safe_files import read_regular
from dotledger.text_display import plain_text

__all__ = ["defaults_of", "description_files", "name_variables", "settings_files"]


SHARED = ("ledger", "service", "kinds", "annotations", "overlap", "threshold", "rules")
"""Options that may stand at the top of the file, for every command that has them."""
_NEVER = ("allow_code", "replace")
_NEVER_DISARMED = {"cover": "threshold"}
"""What a threshold leaves open is a face: it is given on the command line, and seen there."""
"""What a file that came with somebody's folder must not agree to."""


def settings_files() -> list[Path]:
    """Return the files that hold options and are there, the more general first."""
    from platformdirs import user_config_path

    found = [user_config_path("dotledger") / "settings.toml"]
    here = Path.cwd()
    # A parent's file counts only in a project of the user's own: /tmp has many owners.
    parents = [folder for folder in here.parents if owned_project(folder)]
    found += [folder / "dotledger.toml" for folder in (here, *parents)][:20]
    there = [path for path in found if path.is_file()]
    return [*there[:1], *there[1:2]] if there[:1] == found[:1] else there[:1]


def description_files(service: str | None = None) -> Iterator[Path]:
    """Yield description files of the user's folder ``descriptions``, then of the current one's."""
    from platformdirs import user_config_path

    for folder in (user_config_path("dotledger") / "descriptions", Path("descriptions")):
        if service is not None and "/" not in service and (folder / f"{service}.toml").is_file():
            yield folder / f"{service}.toml"
        elif service is None and folder.is_dir():
            yield from sorted(folder.glob("*.toml"))


def defaults_of(name: str, command: click.Command, commands: Mapping[str, Any]) -> dict[str, Any]:
    """Return what the files say of a command's options, by the names of its parameters.

    Raises
    ------
    DescriptionError
        Naming the file, for what is no TOML, no command or no option of it.
    """
    params = {
        text.removeprefix("--"): one.name or ""
        for one in command.params
        for text in one.opts
        if text.startswith("--")
    }
    from platformdirs import user_config_path

    found: dict[str, Any] = {}
    for path in settings_files():
        own = path.parent == user_config_path("dotledger")
        said = _from_file(path, name, params, commands)
        found |= said if own or is_trusted(path) else _harmless(path, name, said)
    return {params[option]: value for option, value in found.items()}


def _harmless(path: Path, name: str, said: Mapping[str, Any]) -> dict[str, Any]:
    """Keep what a file may set that nobody has agreed to; name the rest."""
    left = [option for option in said if not may_set(name, option)]
    if left:
        text = (
            f"{path}: {', '.join(left)} not taken from a folder's file until you agree to it. "
            "Look at the file, then: dotledger doctor --trust"
        )
        click.echo(plain_text(text), err=True)
    return {option: value for option, value in said.items() if may_set(name, option)}


def name_variables(name: str, command: click.Command) -> None:
    """Let each option be given by a variable, such as ``DOTLEDGER_SEND_AT_MOST``."""
    for one in command.params:
        long = next((text[2:] for text in one.opts if text.startswith("--")), "")
        if long and one.envvar is None:
            one.envvar = f"DOTLEDGER_{name}_{long}".replace("-", "_").upper()


def _from_file(
    path: Path, name: str, params: Mapping[str, str], commands: Mapping[str, Any]
) -> dict[str, Any]:
    import tomllib

    try:
        data = tomllib.loads(read_regular(path).decode("utf-8-sig"))
        _check_numbers(data)
    except (OSError, ValueError, RecursionError) as error:
        raise DescriptionError(f"settings that cannot be read ({error})", place=str(path)) from None
    found: dict[str, Any] = {}
    for key, value in data.items():
        if isinstance(value, dict):
            if key not in commands:
                raise _unknown("no such command", path, key, commands)
        elif key not in SHARED:
            raise _unknown("no option that stands for every command", path, key, SHARED)
        elif key in params and _NEVER_DISARMED.get(name) != key:
            found[key] = value
    for key, value in data.get(name, {}).items():
        option = key.replace("_", "-")
        if option not in params:
            raise _unknown(f"{name} has no such option", path, key, params)
        if params[option] in _NEVER or _NEVER_DISARMED.get(name) == option:
            raise DescriptionError(
                "this cannot be agreed to in a file", place=f"{path}, [{name}]", got=key
            )
        found[option] = value
    return found


def _check_numbers(value: Any) -> None:
    """Refuse numbers without end, which TOML makes of 1e400; raises ValueError."""
    if isinstance(value, float) and not math.isfinite(value):
        raise ValueError(f"{value} is not a number that can be used")
    parts = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    for part in parts:
        _check_numbers(part)


def _unknown(what: str, path: Path, got: str, known: Any) -> DescriptionError:
    return DescriptionError(hinted(what, got, known), place=str(path), got=got, allowed=known)
