"""One page of one trial: the image with its boxes, what was read, the answer, the request."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files
from typing import NamedTuple

from dotledger.errors import ImageError, MissingExtra
from dotledger.report.pages.embedded_pictures import Shown, small_copy
from dotledger.report.pages.report_page import dumped, page_policy, sight_script

__all__ = ["TrialAttempt", "TrialFinding", "trial_page"]


class TrialFinding(NamedTuple):
    """One finding of a trial: confidence and attributes as text, empty for none."""

    kind: str
    label: str
    confidence: str
    box: tuple[float, ...] | None
    more: str
    text: str = ""
    points: tuple[tuple[float, float], ...] = ()
    outline: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, kw_only=True)
class TrialAttempt:
    """What is shown of a trial; everything secret in it is masked already.

    Attributes
    ----------
    service, call : str
        Names.
    request : sequence of str
        Lines.
    status : int or None
        None if there was no answer.
    seconds : float
        Until it was there.
    answer : str
        As it came, indented.
    found : sequence of TrialFinding
        As read.
    notes : sequence of str
        What was set aside or noticed.
    problem : str
        Empty if all went well.
    next_steps : sequence of str
        What to do about it.
    """

    service: str
    call: str
    request: Sequence[str]
    status: int | None
    seconds: float
    answer: str
    found: Sequence[TrialFinding]
    notes: Sequence[str]
    problem: str
    next_steps: Sequence[str]


def trial_page(attempt: TrialAttempt, image: bytes) -> str:
    """Return the page.

    Parameters
    ----------
    attempt : TrialAttempt
        The call and how it was read.

    Returns
    -------
    str
        HTML that stands by itself; its policy allows its own script and style only.

    Raises
    ------
    MissingExtra
        If Jinja2 is not installed.
    ImageError
        If the image cannot be decoded.
    """
    try:
        from jinja2 import Environment, StrictUndefined
    except ImportError as error:
        raise MissingExtra(
            "the page needs Jinja2", next_step="Run: pip install 'dot-ledger[report]'"
        ) from error
    shown = small_copy(lambda: image, 900)
    if not isinstance(shown, Shown):
        raise ImageError(shown)
    style = (files(__package__) / "parts/trial.css").read_text(encoding="utf-8")
    script = sight_script() + (files(__package__) / "parts/trial.js").read_text(encoding="utf-8")
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["plain"] = lambda text: "".join(
        c if c.isprintable() or c == "\n" else "·" for c in text
    )
    template = (files(__package__) / "parts/trial.html").read_text(encoding="utf-8")
    return environment.from_string(template).render(
        attempt=attempt,
        style=style,
        script=script,
        policy=page_policy(style, script),
        data=dumped([one._asdict() for one in attempt.found]),
        source="data:image/jpeg;base64," + base64.b64encode(shown.data).decode(),
        width=shown.width,
        height=shown.height,
    )
