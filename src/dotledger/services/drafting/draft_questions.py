"""The few things that no sample tells: what is asked of the person, and what an answer changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from urllib.parse import urlsplit

from dotledger.services.body_forms import BODY_FORMS
from dotledger.services.drafting.draft_writing import Draft
from dotledger.services.drafting.request_samples import Asked
from dotledger.services.drafting.rule_drafting import NONE, Choice, RuleGuess

__all__ = ["Question", "ask_about_request", "ask_about_rules", "unknown_words"]

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


def ask_about_rules(made: Draft, ask: Question) -> None:
    """Ask what the samples leave open, and write the answers into the rules.

    Parameters
    ----------
    made : Draft
        It is changed: what was chosen is its own, and the question goes.
    ask : callable
        See `Question`.
    """
    said: dict[tuple[str, ...], str] = {}
    for rule in made.sure:
        for key, choices in list(rule.unclear.items()):
            if len(choices) < 2:
                continue  # the order of words is asked for as text
            texts = tuple(choice.value for choice in choices)
            if texts not in said:  # a second box of the same name is written in the same way
                said[texts] = ask(f"The {key} at {rule.each}", _with_shown(choices))
            _answer(rule, key, said[texts].partition("   # ")[0])
            del rule.unclear[key]
            made.questions = [q for q in made.questions if f"the {key} at {rule.each}: " not in q]


def _with_shown(choices: Sequence[Choice]) -> list[str]:
    return [f"{one.value}   # {one.shown}" if one.shown else one.value for one in choices]


def _answer(rule: RuleGuess, key: str, chosen: str) -> None:
    if key == "box":
        rule.boxes = sorted(rule.boxes, key=lambda box: box.toml() != chosen)
    elif key == "confidence":
        rule.confidence = "" if chosen == NONE else chosen
    else:
        rule.label = chosen.strip("\"'")


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
