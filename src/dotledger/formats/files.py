"""Writing a file whole or not at all, and reading JSON with messages that name the file."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import orjson

from dotledger.errors import TableError

__all__ = ["read_json", "whole_file"]


@contextmanager
def whole_file(path: str | os.PathLike[str]) -> Iterator[Path]:
    """Give a temporary path beside `path`, and move it there if the block ends well.

    Folders are made as needed. If the block fails, nothing is left and an older file stays.

    Raises
    ------
    OSError
        If the folder cannot be written.
    """
    target = Path(path)
    target.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=target.parent, prefix=".", suffix=target.suffix)
    os.close(handle)
    draft = Path(name)
    try:
        yield draft
        draft.chmod(0o666 & ~_umask())
        draft.replace(target)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise


def read_json(path: Path) -> Any:
    """Return what a JSON file holds.

    Raises
    ------
    TableError
        If it cannot be read or breaks off.
    """
    try:
        return orjson.loads(path.read_bytes())
    except OSError as error:
        raise TableError(f"the file cannot be read ({error.strerror})", place=str(path)) from error
    except orjson.JSONDecodeError as error:
        raise TableError(
            f"the file breaks off or is not JSON ({error})", place=str(path)
        ) from error


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
