"""How results show themselves: in at most six lines, and as a table in a notebook."""

from __future__ import annotations

import json
import sys
from typing import TYPE_CHECKING, Any, ClassVar

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Displayed", "JsonText", "Plotted"]

_ROWS, _COLUMNS = 4, 8


class JsonText:
    """A result with plain data, as JSON text too."""

    def to_dict(self) -> dict[str, Any]:
        """Return the result as plain data; undefined numbers are None."""
        raise NotImplementedError

    def to_json(self) -> str:
        """Return `to_dict` as JSON text."""
        return json.dumps(self.to_dict(), ensure_ascii=False, allow_nan=False, indent=2)


class Displayed(JsonText):
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
    """A result that can be drawn, by the `plot` of the package.

    The core imports no interface. Whoever has a result has imported the package, also when it was
    unpickled in a fresh process: the package's own `plot` is asked for by name.
    """

    _chart: ClassVar[str] = "curve"

    def plot(self, what: str = "", **options: Any) -> Any:
        """Draw one chart of this result; `dotledger.plot` has the charts and options.

        Parameters
        ----------
        what : str, optional
            Which chart; by default the curve of a measure, the differences of a comparison.
        **options
            Such as ``kind``, ``chosen`` and ``ax``.

        Raises
        ------
        ArgumentError
            If the chart or an option is not known.
        MissingExtra
            If ``dot-ledger[plots]`` is not installed.
        """
        package = sys.modules[__name__.partition(".")[0]]
        return package.plot(self, what or self._chart, **options)
