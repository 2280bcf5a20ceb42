"""The results of gates, for people and for build servers."""

from __future__ import annotations

import math
from xml.etree import ElementTree

from dotledger.core.comparison.release_gates import JudgedGate, Verdicts
from dotledger.text_display import plain_text

__all__ = ["junit_text", "markdown_text"]


def junit_text(verdicts: Verdicts, *, name: str = "gates") -> str:
    """Return verdicts as JUnit XML, the form that build servers read.

    Returns
    -------
    str
        One test case a gate and what it is about; a gate that could not be judged and yet holds is
        skipped.
    """
    broken = [one for one in verdicts.judged if not one.holds]
    skipped = [one for one in verdicts.judged if one.holds and not one.was_judged]
    suite = ElementTree.Element(
        "testsuite",
        name=name,
        tests=str(len(verdicts.judged)),
        failures=str(len(broken)),
        errors="0",
        skipped=str(len(skipped)),
    )
    for one in verdicts.judged:
        case = ElementTree.SubElement(
            suite, "testcase", classname=name, name=_clean(f"{one.gate.title} [{one.of}]")
        )
        if not one.holds:
            failure = ElementTree.SubElement(case, "failure", message=_clean(one.why))
            failure.text = _clean(f"{_value(one)}; {one.counts}")
        elif not one.was_judged:
            ElementTree.SubElement(case, "skipped", message="could not be judged")
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"


def _clean(text: str) -> str:
    """Return text without characters that XML cannot hold."""
    return plain_text(text).encode("utf-8", "replace").decode()


def _value(one: JudgedGate) -> str:
    if math.isnan(one.value):
        return "undefined"
    ends = "" if math.isnan(one.low) else f" ({one.low:.3f} to {one.high:.3f})"
    return f"{one.value:.3f}{ends}"


def markdown_text(verdicts: Verdicts) -> str:
    """Return verdicts as a table in Markdown.

    Returns
    -------
    str
        What does not hold comes first.
    """
    word = "All gates hold." if verdicts.holds else "**Not all gates hold.**"
    lines = [
        f"{word} {verdicts.images} images in scope.",
        "",
        "| holds | gate | of | value | counts | why not |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    for one in sorted(verdicts.judged, key=lambda one: one.holds):
        holds = "yes" if one.holds else "**no**"
        cells = (holds, one.gate.title, one.of, _value(one), one.counts, one.why)
        lines.append("| " + " | ".join(_cell(cell) for cell in cells) + " |")
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    plain = plain_text(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")
    return plain.replace("\n", " ")
