"""One group of entries while its rule is made, and where its label stands."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from dotledger.services.drafting.box_drafting import Size, box_guesses, toml_text
from dotledger.services.drafting.sample_sections import (
    CONFIDENCE_NAMES,
    LABEL_NAMES,
    Entry,
    Path,
    SectionGroup,
    fields_of,
    is_amount,
    plain_name,
    written,
)
from dotledger.services.drafting.section_shapes import angled, language_list, languages_of, masks_of

__all__ = ["COLOUR_NAMES", "ID_NAMES", "Fields", "Guess", "capitals", "label_of", "rank_of"]

Fields = Mapping[Path, Sequence[Any]]

ID_NAMES = (
    *("id", "index", "ref", "key", "code", "uuid", "hash", "hex", "url", "href", "time", "date"),
)
"""Names of fields that tell entries apart and say nothing about them."""

_COLOUR = re.compile(r"#[0-9a-f]{6}$", re.IGNORECASE)
COLOUR_NAMES = ("colour", "color", "palette", "swatch")
"""Names of sections that tell the colours of an image."""
_NO_WORD = re.compile(r"(#?[0-9a-f]{6,}|https?://.*|\d{4}-\d\d-\d\d.*)$", re.IGNORECASE)


class Guess:
    """What is known of one group while its rule is made."""

    def __init__(
        self, group: SectionGroup, groups: Mapping[Path, SectionGroup], working: Mapping[int, Size]
    ) -> None:
        self.group, self.groups = group, groups
        self.sizes = [entry.size for entry in group.entries]
        self.fields: Fields = fields_of(group.values)
        shown = [working[e.sample] for e in group.entries if e.sample in working]
        full = shown if len(shown) == len(group.entries) else []
        self.boxes = box_guesses(self.fields, self.sizes, full)
        self.boxes = masks_of(self.fields) + [angled(one, self.fields) for one in self.boxes]
        self.used: set[Path] = {path for guess in self.boxes[:1] for path in guess.used}
        named = {name: self.at(path) for name, path in languages_of(self.fields).items()}
        self.languages = named or language_list(self.fields)
        self.questions: list[str] = []

    def name(self, path: Path) -> str:
        """Return the last name of a path, in lower case."""
        return plain_name(path[-1]) if path else ""

    def at(self, path: Path) -> str:
        """Return how a field of the group is written."""
        if self.group.beside:
            return "@" if path == ("",) else f"^{written(path)}[@index]"
        return written(path)


def label_of(guess: Guess) -> tuple[str, str, str, str]:
    """Return where the label stands, or a fixed one; how it is split, and its side table.

    Parameters
    ----------
    guess : Guess
        Of one group; the field it takes is noted as used.

    Returns
    -------
    tuple of str
        Four, of which all but one may be empty.
    """
    if label := _told_label(guess):
        return label, "", "", ""
    free = {path: values for path, values in guess.fields.items() if path not in guess.used}
    if chosen := _text_field(free) or _colour_field(guess, free):
        guess.used.add(chosen)
        return guess.at(chosen), "", _split_of(guess.fields[chosen]), ""
    if table := _side_table(guess):
        return (*table[:1], "", "", table[1])
    outer, up = [entry.outer for entry in guess.group.entries], 1
    steps = [i for i, step in enumerate(guess.group.path[:-1]) if step in ("[]", "{}")]
    for place in reversed(steps):
        above = [entry for entry in outer if entry is not None]
        if guess.group.path[place] == "{}":
            return "^" * up + "@key", "", "", ""
        around = fields_of([_scalars(entry.value) for entry in above])
        if chosen := _text_field(around):
            return "^" * up + written(chosen), "", _split_of(around[chosen]), ""
        outer, up = [entry.outer for entry in above], up + 1
    names = guess.group.names
    word = names[-1] if names else ""
    return "", word.removesuffix("s") or word, "", ""


def _told_label(guess: Guess) -> str:
    """Return a label that needs no guessing: a key, or a name in the first of several languages."""
    if guess.group.path[-1] == "{}":
        return "@key"
    guess.used.update(languages_of(guess.fields).values())
    return next(iter(guess.languages.values()), "")


def _scalars(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    return {name: v for name, v in value.items() if not isinstance(v, (dict, list))}


def _text_field(fields: Fields) -> Path | None:
    """Return the field that most looks like a label, if one does."""
    texts = [
        path
        for path, values in fields.items()
        if all(isinstance(v, str) and v and not is_amount(v) for v in values)
        and not any(_NO_WORD.match(v) for v in values)
    ]
    named = [p for p in texts if not p or plain_name(p[-1]) in (*LABEL_NAMES, "")]
    if named:
        return min(named, key=lambda p: (len(p), rank_of(p, LABEL_NAMES)))
    rows = [p for p in texts if p and isinstance(p[0], int)]
    others = [p for p in texts if plain_name(p[-1]) not in (*ID_NAMES, *CONFIDENCE_NAMES, "status")]
    if len(others) == 1 or rows:
        return (others or rows)[0]
    inner = [p for p in others if len(p) > 1 and plain_name(p[-2]) in LABEL_NAMES]
    return inner[0] if inner else None


def _colour_field(guess: Guess, fields: Fields) -> Path | None:
    """Return the field of a section about colours that holds them as #rrggbb.

    Elsewhere a colour is one more fact about a thing, and not what it is called.
    """
    last = guess.group.names[-1] if guess.group.names else ""
    if not any(word in last for word in COLOUR_NAMES):
        return None
    return next((p for p, values in fields.items() if all(map(_is_colour, values))), None)


def _is_colour(value: Any) -> bool:
    return isinstance(value, str) and _COLOUR.match(value) is not None


def rank_of(path: Path, names: Sequence[str]) -> int:
    """Return the place of a path's last name among names; behind them all if it is none.

    Parameters
    ----------
    names : sequence of str
        In plain form, the likeliest first.

    Returns
    -------
    int
        From 0 to the number of names.
    """
    name = plain_name(path[-1]) if path else ""
    return names.index(name) if name in names else len(names)


def _split_of(values: Sequence[str]) -> str:
    """Return the sign that divides category paths, if every label is one."""
    for sign in ("/", ">", "|", "::"):
        if all(sign in value.strip(sign) for value in values):
            return sign
    return ""


def _side_table(guess: Guess) -> tuple[str, str] | None:
    """Return where the label's id stands and the table of names, if the answer holds one."""
    for path, values in guess.fields.items():
        if not all(isinstance(v, (int, str)) and not isinstance(v, bool) for v in values):
            continue
        wanted = {str(v) for v in values}
        for other in guess.groups.values():
            if other.path == guess.group.path or len(other.path) != len(other.names) + 1:
                continue
            if table := _names_in(other, wanted):
                guess.used.add(path)
                return written(path), table
    return None


def _names_in(group: SectionGroup, wanted: set[str]) -> str | None:
    each = toml_text(written(group.path, each=True))
    if group.path[-1] == "{}" and all(isinstance(v, str) for v in group.values):
        there = wanted <= {entry.key for entry in group.entries}
        return f'{{ table = {each}, id = "@key", name = "@" }}' if there else None
    fields = fields_of(group.values)
    name = _text_field(fields)
    for path, values in fields.items():
        is_id = name and path != name and path and plain_name(path[-1]) in ID_NAMES
        if is_id and wanted <= {str(v) for v in values}:
            ids, names = toml_text(written(path)), toml_text(written(name or ()))
            return f"{{ table = {each}, id = {ids}, name = {names} }}"
    return None


def capitals(guess: Guess, label: str) -> bool:
    """Tell whether every label starts with a capital letter.

    Parameters
    ----------
    label : str
        Path of the label, as in a rule.
    """
    if label == "@key":
        texts = [entry.key for entry in guess.group.entries]
    elif label.startswith("^"):
        name = label.lstrip("^")
        texts = [
            str(entry.outer.value.get(name, ""))
            for entry in guess.group.entries
            if isinstance(entry.outer, Entry) and isinstance(entry.outer.value, dict)
        ]
    else:
        chosen = next((p for p in guess.fields if guess.at(p) == label), None)
        texts = [str(v) for v in guess.fields[chosen]] if chosen is not None else []
    return bool(texts) and all(text[:1].isupper() for text in texts)
