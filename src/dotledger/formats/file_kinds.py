"""Reading JSON with messages that name the file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dotledger.errors import TableError
from dotledger.json_codec import NotJSON, from_json
from dotledger.safe_files import read_regular

__all__ = ["read_json"]


def read_json(path: Path) -> Any:
    """Return what a JSON file holds.

    Parameters
    ----------
    path : Path
        A file in UTF-8.

    Raises
    ------
    TableError
        If it cannot be read or breaks off.
    """
    try:
        return from_json(read_regular(path))
    except OSError as error:
        raise TableError(f"the file cannot be read ({error.strerror})", place=str(path)) from error
    except NotJSON as error:
        raise TableError(
            f"the file breaks off or is not JSON ({error})", place=str(path)
        ) from error
