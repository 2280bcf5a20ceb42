"""Charts of names and pairs as files."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from dotledger.core.questions.identification import Identification
from dotledger.core.questions.pair_verification import PairMeasure
from dotledger.errors import ArgumentError, MissingExtra
from dotledger.report.charts import plot, plot_style
from dotledger.safe_files import whole_file

__all__ = ["CHART_ENDINGS", "write_similarity_chart"]

CHART_ENDINGS = (".png", ".svg", ".pdf")
"""Kinds of files that a chart is written to."""


def write_similarity_chart(
    found: Identification | PairMeasure, path: str, chosen: float | None = None
) -> None:
    """Write a chart of a result: of names one, of pairs both rates and the curve of the two.

    Parameters
    ----------
    path : str
        A file that ends as one of `CHART_ENDINGS`; replaced if it exists.
    chosen : float, optional
        A threshold to mark; one that is infinite, since nothing meets an aim, is not.

    Raises
    ------
    ArgumentError
        If it ends otherwise.
    MissingExtra
        If Matplotlib is not installed.
    """
    chosen = None if chosen is None or math.isinf(chosen) else chosen
    ending = Path(path).suffix.lower()
    if ending not in CHART_ENDINGS:
        raise ArgumentError("no kind of chart file", place="chart", got=path, allowed=CHART_ENDINGS)
    try:
        from matplotlib import rc_context
        from matplotlib.figure import Figure
    except ImportError as error:
        raise MissingExtra(
            "charts need Matplotlib", next_step="Run: pip install 'dot-ledger[plots]'"
        ) from error
    charts = ("names",) if isinstance(found, Identification) else ("pairs", "errors")
    style: Any = plot_style()
    with rc_context(style):
        figure = Figure(figsize=(6.4 * len(charts), 4.4), layout="constrained")
        for place, what in enumerate(charts, 1):
            axes = figure.add_subplot(1, len(charts), place)
            plot(found, what, chosen=chosen, ax=axes)
        with whole_file(path) as draft:
            figure.savefig(draft, format=ending[1:], dpi=100)
