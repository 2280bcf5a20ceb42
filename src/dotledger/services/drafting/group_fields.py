"""One group while its reading is sought: its fields, and what the other groups add to them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.services.drafting.box_drafting import Size
from dotledger.services.drafting.draft_evidence import Seen, evidence_for
from dotledger.services.drafting.sample_sections import (
    Path,
    SectionGroup,
    amount_of,
    fields_of,
    is_amount,
    plain_name,
    written,
)

__all__ = ["GroupFields", "Pooled", "pooled_amounts", "scalars_of"]


class Pooled(Struct, eq=False):
    """All numbers of the fields of one name, and the sections that they stand in."""

    amounts: list[float] = field(default_factory=list)
    sections: set[Path] = field(default_factory=set)


class GroupFields(Struct, eq=False, kw_only=True):
    """One group, its fields, and what the other groups and samples add to them.

    `pooled` has all numbers of a field's name over all groups: a service writes one name on one
    scale. `words` are the ordered words of its scale, where a person says them.
    """

    group: SectionGroup
    groups: Mapping[Path, SectionGroup]
    fields: dict[Path, list[Any]] = field(default_factory=dict)
    working: list[Size] = field(default_factory=list)
    pooled: Mapping[str, Pooled] = field(default_factory=dict)
    words: Sequence[str] = ()
    whole: SectionGroup | None = None

    def at(self, path: Path) -> str:
        """Return how a field of the group is written in a rule."""
        if self.group.beside:
            return f"^{self.group.beside[str(path[0])]}[@index]"
        return written(path)

    def seen(self, path: Path) -> Seen:
        """Return a field as evidence looks at it."""
        values = [v for v in self.fields[path] if v is not None]
        name = path[-1] if path else self.group.names[-1] if self.group.names else ""
        plain = str(name) if not isinstance(name, int) else ""
        beside = frozenset(
            plain_name(other[-1]) for other in self.fields if other[:-1] == path[:-1] and other
        )
        return Seen(plain, values, len(self.fields[path]) - len(values), beside)


def scalars_of(value: Any) -> Any:
    """Return the single values of an object; what is a list or an object in it is left out."""
    if not isinstance(value, dict):
        return {}
    return {name: v for name, v in value.items() if not isinstance(v, (dict, list))}


def pooled_amounts(groups: Mapping[Path, SectionGroup]) -> dict[str, Pooled]:
    """Return all numbers of each field that may be a confidence, by its name, wherever it stands.

    A service writes one field on one scale; a few small values alone would look like fractions.
    """
    found: dict[str, Pooled] = {}
    for group in groups.values():
        if "{}" in group.path[:-1]:
            continue
        for path, values in fields_of(group.values).items():
            named = str(path[-1]) if path else ""
            told, _ = evidence_for("confidence", Seen(named, ()))
            numbers = [amount_of(v) for v in values if is_amount(v)]
            if len(path) != 1 or told < 0 or not numbers:
                continue
            pooled = found.setdefault(plain_name(named), Pooled())
            pooled.amounts += numbers
            pooled.sections.add(tuple(s for s in group.path if s not in ("[]", "{}")))
    return found
