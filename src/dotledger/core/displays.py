"""How results show themselves: in at most six lines, and as a table in a notebook."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Displayed"]

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
