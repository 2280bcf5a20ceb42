"""Labels by id: a vocabulary file next to a description, in one or several languages."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from typing import TypeVar

import msgspec

from dotledger.errors import DescriptionError
from dotledger.reading.reading_rules import Lookup, ReadRule
from dotledger.reading.strict_toml import hinted
from dotledger.safe_files import read_regular

__all__ = ["with_vocabularies"]


R = TypeVar("R", bound=ReadRule)


def with_vocabularies(rules: Sequence[R], folder: Path | None, name: str) -> tuple[R, ...]:
    """Put the vocabulary files that rules name into the rules, so that they stand alone.

    A ledger keeps the description with every batch: the names must be in it, not next to it.

    Parameters
    ----------
    folder : Path or None
        Where files are looked for; None where the description came as text.
    name : str
        What the description is called in messages.

    Returns
    -------
    tuple of ReadRule
        The same if none names a file.

    Raises
    ------
    DescriptionError
        Naming file, line and column: a file that is not there or no CSV in UTF-8, a column that
        lacks, an id that occurs twice.
    """
    if folder is None and any(rule.lookup is not None and rule.lookup.file for rule in rules):
        raise DescriptionError(
            "a vocabulary file is looked for next to the description's file, and there is none",
            place=name,
            next_step="Load it with read_description, or write the names into lookup.names.",
        )
    return tuple(rules if folder is None else (_filled(rule, folder) for rule in rules))


def _filled(rule: R, folder: Path) -> R:
    lookup = rule.lookup
    if lookup is None or not lookup.file:
        return rule
    names = _names(folder / lookup.file, lookup)
    filled = msgspec.structs.replace(lookup, file="", names=names)
    return msgspec.structs.replace(rule, lookup=filled)


def _names(file: Path, lookup: Lookup) -> dict[str, str]:
    try:
        text = read_regular(file).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise DescriptionError(
            f"the vocabulary cannot be read ({reason})", place=str(file)
        ) from error
    reader = csv.DictReader(io.StringIO(text, newline=""), restval="")
    columns = [name.strip() for name in reader.fieldnames or ()]
    reader.fieldnames = columns
    for column in (lookup.id, lookup.name):
        if column not in columns:
            raise DescriptionError(
                hinted("no such column in the vocabulary:", column, columns),
                place=f"{file}, line 1",
                got=column,
                allowed=columns,
            )
    names: dict[str, str] = {}
    try:
        for row in reader:
            key, label = row[lookup.id].strip(), row[lookup.name].strip()
            if key and label and names.setdefault(key, label) != label:
                raise DescriptionError(
                    "the id occurs twice, with two names",
                    place=f"{file}, line {reader.line_num}",
                    got=key,
                )
    except csv.Error as error:
        place = f"{file}, line {reader.line_num}"
        raise DescriptionError(f"not CSV ({error})", place=place) from error
    return names
