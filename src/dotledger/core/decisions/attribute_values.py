"""Which findings have an attribute as a rule demands it; what it can never have is refused."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from dotledger.core.arrays import Flags
from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import attribute_list
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError

__all__ = ["attribute_names", "having_attribute"]

_FLAGS = {"yes": True, "true": True, "no": False, "false": False}


def having_attribute(findings: Findings, rows: Flags, name: str, values: Sequence[Any]) -> Flags:
    """Return which findings have an attribute with one of some values.

    Parameters
    ----------
    rows : ndarray of bool, shape (n,)
        Those that the rule is about.
    values : sequence
        Any of them; none for any value but no. Of a flag ``"yes"`` and ``"true"`` mean that it is
        set, ``"no"`` and ``"false"`` that it is not.

    Returns
    -------
    ndarray of bool, shape (n,)
        Among `rows`.

    Raises
    ------
    ArgumentError
        If no finding has the attribute and one has another spelt nearly so; if a value is of a
        sort that the attribute never has, such as a word for a flag: it would never be met.
    """
    given = {
        place: _plain(details.attributes[name])
        for place, details in enumerate(findings.details or ())
        if rows[place] and details is not None and name in details.attributes
    }
    if not given:
        _check_name(findings, rows, name)
    wanted = [_checked(value, list(given.values()), name) for value in values]
    found = np.zeros(len(findings), dtype=bool)
    for place, value in given.items():
        own = value if isinstance(value, list | tuple) else [value]
        found[place] = (
            any(_same(one, other) for one in own for other in wanted)
            if values
            else any(one not in (False, None, "") for one in own)
        )
    return found


def attribute_names(findings: Findings, rows: Flags) -> list[str]:
    """Return the attributes that some findings have, sorted."""
    return sorted(
        {
            name
            for place, details in enumerate(findings.details or ())
            if rows[place] and details is not None
            for name in details.attributes
        }
    )


def _plain(value: Any) -> Any:
    """Return the value itself where the service's confidence stands next to it; a list as one."""
    entries = attribute_list(value)
    if entries is not None:
        return entries
    return value["value"] if isinstance(value, Mapping) and "value" in value else value


def _check_name(findings: Findings, rows: Flags, name: str) -> None:
    known = attribute_names(findings, rows)
    near = nearest(name, known)
    if near:
        raise ArgumentError(
            f"no finding has the attribute {name!r}; did you mean {near[0]!r}?",
            place="rules: attribute",
            got=name,
            allowed=known[:20],
        )


def _checked(wanted: Any, given: Sequence[Any], name: str) -> Any:
    """Return a demanded value as the attribute has it, or refuse it."""
    sorts = {_sort(value) for value in given} - {"other"}
    if sorts == {"flag"} and isinstance(wanted, str) and wanted.strip().casefold() in _FLAGS:
        return _FLAGS[wanted.strip().casefold()]
    if sorts and _sort(wanted) not in sorts:
        allowed = {
            "flag": 'true, false, "yes" or "no"',
            "number": "a number",
            "word": "a word in quotes",
        }
        raise ArgumentError(
            f"the attribute {name!r} never has such a value: no finding could meet the rule",
            place="rules: value",
            got=wanted,
            allowed=[allowed[sort] for sort in sorted(sorts)],
        )
    return wanted


def _sort(value: Any) -> str:
    if isinstance(value, list | tuple):
        return _sort(value[0]) if value else "other"
    if isinstance(value, bool):
        return "flag"
    if isinstance(value, int | float):
        return "number"
    return "word" if isinstance(value, str) else "other"


def _same(one: Any, other: Any) -> bool:
    """Tell whether two values are the same: 1 is a number, and no flag."""
    return isinstance(one, bool) == isinstance(other, bool) and bool(one == other)
