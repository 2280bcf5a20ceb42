"""The few things that no sample tells: what is asked of the person, and what an answer changes."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from dotledger.services.body_forms import BODY_FORMS
from dotledger.services.drafting.draft_writing import Draft, ambiguous
from dotledger.services.drafting.request_samples import Asked
from dotledger.services.drafting.rule_drafting import RuleGuess

__all__ = ["Question", "ask_about_boxes", "ask_about_request", "unknown_words"]

Question = Callable[[str, list[str]], str]
"""Puts a question to the person; given what may be answered (nothing: any text), returns that."""


def ask_about_request(asked: Asked, ask: Question) -> Asked:
    """Ask where the service is, where the key goes and how the image does, if that is not known.

    Parameters
    ----------
    asked : Asked
        As far as it is known; it is changed.
    ask : callable
        See `Question`.
    """
    if not asked.address:
        split = urlsplit(ask("The whole address of one call, as its makers write it", []))
        if split.netloc:
            asked.address, asked.path = f"{split.scheme}://{split.netloc}", split.path or "/"
    if not asked.place:
        ways = ["none", "header", "query", "bearer", "basic"]
        place = ask("How the key goes along", ways)
        if place != "none":
            asked.place = place
        if place in ("header", "query"):
            asked.name = ask(f"The name of the {place} that holds the key", [])
    if not asked.body:
        asked.body = ask("How the image goes", list(BODY_FORMS))
        if BODY_FORMS[asked.body].needs_field:
            asked.image_field = ask("The name of the field that holds it", [])
    return asked


def ask_about_boxes(made: Draft, ask: Question) -> None:
    """Ask which of two ways of writing a box is meant, where both fit the samples.

    Parameters
    ----------
    made : Draft
        It is changed: the way that was chosen stands first, and its question goes.
    ask : callable
        See `Question`.
    """
    for rule in made.sure:
        ways = ambiguous(rule)
        if ways:
            texts = [", ".join(order) for order in ways]
            chosen = ask(f"The order of the numbers of a box at {rule.each}", texts)
            _put_first(rule, ways[texts.index(chosen)])
            made.questions = [q for q in made.questions if f"numbers at {rule.each}:" not in q]


def _put_first(rule: RuleGuess, order: tuple[str, ...]) -> None:
    rule.boxes = sorted(rule.boxes, key=lambda box: box.order != order)


def unknown_words(made: Draft) -> list[str]:
    """Return the words of a scale whose order no sample tells; empty if there is none.

    Returns
    -------
    list of str
        As they stand in the samples.
    """
    start, end = "the order of the words ", ", from low to high"
    for question in made.questions:
        if question.startswith(start) and question.endswith(end):
            return question.removeprefix(start).removesuffix(end).split(", ")
    return []
