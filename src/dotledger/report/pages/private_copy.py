"""What a private report is made of: an allow list of what it may hold.

Everything else is gone before the page is made, so that no part of it (a menu, a note, a reason,
the data of its script) can let it through. Names of images are numbers, and so are labels of faces
and of lines of text; of attributes only flags and numbers stay. Labels of the kinds label, object
and unsafe stay: they are what the report is about.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from dotledger.core.kinds import OUTCOMES
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded
from dotledger.report.pages.batch_facts import SentFacts

__all__ = ["PrivateNames", "private_facts", "private_run_name"]

_SHOWN = ("label", "object", "unsafe")
"""Kinds whose labels a private report shows."""
_PLAIN = re.compile(r"[a-z][a-z _]{0,30}")
_SERVICE = re.compile(r"[a-z][a-z0-9-]{0,40}")
_CURRENCY = re.compile(r"[A-Z]{3}")
_ROWS = ("Images", "Sent", "Kinds", "Calls", "Cost", "Pace", "Call time", "Floor")


class PrivateNames:
    """Replaces names by numbers: the same name gets the same number in every table.

    Parameters
    ----------
    images : iterable of str
        In the order in which they are numbered; others follow as they are met.
    """

    def __init__(self, images: Iterable[str]) -> None:
        self._images: dict[str, str] = {}
        self._labels: dict[tuple[str, str], str] = {}
        for name in images:
            self.image(name)

    def image(self, name: str) -> str:
        """Return what an image is called."""
        return self._images.setdefault(name, f"image {len(self._images) + 1}")

    def label(self, kind: str, label: str) -> str:
        """Return what a label is called: itself for kinds that show theirs, or a number."""
        if not label or kind in _SHOWN or label == kind:
            return label
        key = (kind, label)
        return self._labels.setdefault(key, f"{kind} {len(self._labels) + 1}")

    def findings(self, table: Findings) -> Findings:
        """Return findings with nothing but kinds, labels, confidences, boxes, flags and numbers."""
        image, label = self._columns(table)
        details = None if table.details is None else tuple(map(_harmless, table.details))
        return replace(table, image=image, label=label, details=details, origin=None)

    def annotations(self, table: Annotations) -> Annotations:
        """Return annotations with nothing but kinds, labels and boxes, and the images' sizes."""
        image, label = self._columns(table)
        return replace(
            table,
            image=image,
            label=label,
            details=None,
            vocabulary=self._vocabulary(table),
            images={
                self.image(name): {k: v for k, v in facts.items() if k in ("width", "height")}
                for name, facts in table.images.items()
            },
        )

    def by_image(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Return a mapping by images under their numbers."""
        return {self.image(name): value for name, value in values.items()}

    def _columns(self, table: Findings | Annotations) -> tuple[Coded, Coded]:
        images = Coded.of([self.image(name) for name in table.image.names])
        image = Coded(images.codes[table.image.codes], images.names)
        kinds, labels = table.kind.values().tolist(), table.label.values().tolist()
        pairs = zip(kinds, labels, strict=True)
        return image, Coded.of([self.label(kind, label) for kind, label in pairs])

    def _vocabulary(self, table: Annotations) -> Any:
        if not table.vocabulary:
            return table.vocabulary
        return {
            kind: tuple(self.label(kind, one) for one in labels)
            for kind, labels in table.vocabulary.items()
        }


def _harmless(details: Details | None) -> Details | None:
    """Return the flags and numbers among attributes, under names that are plain words."""
    if details is None:
        return None
    kept = {
        name: value
        for name, value in details.attributes.items()
        if _PLAIN.fullmatch(name) and isinstance(value, bool | int | float)
    }
    return Details(attributes=kept)


def private_facts(facts: SentFacts | None, names: PrivateNames) -> SentFacts | None:
    """Return what is known of a batch without texts: reasons, rounds, raw answers."""
    if facts is None:
        return None
    rows = [(what, _figures(what, value)) for what, value in facts.rows if what in _ROWS]
    return SentFacts(
        rows=tuple(rows),
        outcomes={
            kind: {word: n for word, n in counts.items() if word in OUTCOMES}
            for kind, counts in facts.outcomes.items()
        },
        failures=(),
        by_image=names.by_image(facts.by_image),
        seconds=facts.seconds,
    )


def _figures(what: str, value: str) -> str:
    """Return a row's value; a currency is three letters or nothing."""
    if what != "Cost":
        return value
    amount, _, currency = value.partition(" ")
    return f"{amount} {currency}" if _CURRENCY.fullmatch(currency) else amount


def private_run_name(name: str, number: int, *, of_ledger: bool) -> str:
    """Return what a run is called: its service, or a number where that is the name of a file.

    Parameters
    ----------
    number : int
        From 1.
    of_ledger : bool
        Whether it is the service of a batch.
    """
    return name if of_ledger and _SERVICE.fullmatch(name) else f"run {number}"
