"""One page of one trial: the image with its boxes, what was read, the answer, the request."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files

from dotledger.errors import ImageError, MissingExtra
from dotledger.report.pages.embedded_pictures import Shown, small_copy

__all__ = ["TrialAttempt", "trial_page"]


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
    found : sequence of (kind, label, confidence, box, more)
        As read; confidence and box as text and numbers, or empty.
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
    found: Sequence[tuple[str, str, str, tuple[float, ...] | None, str]]
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
        HTML that stands by itself, without scripts.

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
    digest = base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()
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
        policy=f"default-src 'none'; style-src 'sha256-{digest}'; img-src data:; base-uri 'none'",
        source="data:image/jpeg;base64," + base64.b64encode(shown.data).decode(),
        width=shown.width,
        height=shown.height,
        # A number next to a box is as large as a line of the table, whatever the image's size.
        letter=max(shown.width, shown.height) / 38,
    )
