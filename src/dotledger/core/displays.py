"""How results show themselves: in at most six lines, and as a table in a notebook."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, ClassVar

from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Displayed", "Plotted", "draw_with"]

_ROWS, _COLUMNS = 4, 8


class Displayed:
    """A result that is a table: its `frame` is what is shown."""

    def frame(self) -> pd.DataFrame:
        """Return the result as a pandas frame."""
        raise NotImplementedError

    def _head(self) -> str:
        return f"<{type(self).__name__}: {len(self.frame())} rows>"

    def __repr__(self) -> str:
        frame = self.frame()
        if frame.empty:
            return self._head()
        table: Any = frame.iloc[:_ROWS, :_COLUMNS]
        text = table.to_string(index=False, na_rep="\N{EN DASH}", float_format="{:.3f}".format)
        return f"{self._head()}\n{text}"

    def _repr_html_(self) -> str:
        """Show the whole table in a notebook."""
        return self.frame().to_html(
            index=False, na_rep="\N{EN DASH}", float_format="{:.3f}".format, escape=True
        )


class Plotted:
    """A result that can be drawn, by whatever the library proper has put in for drawing.

    The core knows of no interface: what draws is given to it from above; see `draw_with`.
    """

    _chart: ClassVar[str] = "curve"
    _draw: ClassVar[Callable[..., Any] | None] = None

    def plot(self, what: str = "", **options: Any) -> Any:
        """Draw one chart of this result; `dotledger.plot` has the charts and options.

        Parameters
        ----------
        what : str, optional
            Which chart; by default the curve of a measure, the differences of a comparison.
        **options
            Such as ``kind``, ``chosen`` and ``ax``.

        Returns
        -------
        Axes
            Of Matplotlib.

        Raises
        ------
        ArgumentError
            If the chart or an option is not known.
        MissingExtra
            If ``dot-ledger[plots]`` is not installed.
        """
        draw = Plotted._draw
        if draw is None:
            raise ArgumentError(
                "nothing draws here", place="plot", got=what, allowed=["import dotledger"]
            )
        return draw(self, what or self._chart, **options)


def draw_with(draw: Callable[..., Any]) -> None:
    """Say what draws results.

    Parameters
    ----------
    draw : callable
        Takes the result, the chart's name, and options.
    """
    Plotted._draw = staticmethod(draw)
