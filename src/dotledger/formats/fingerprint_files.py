"""Files of prints: known images, kept so that they need not be decoded again."""

from __future__ import annotations

import io
import os
import zipfile
from pathlib import Path

import numpy as np

from dotledger.core.copies.image_fingerprints import Prints
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError, TableError
from dotledger.safe_files import check_unpacked, read_regular, whole_file

__all__ = ["known_prints", "read_prints", "write_prints"]

_VERSION = 1
_MOST = 4 << 30
_COLUMNS = ("whole", "mirrored", "parts")


def write_prints(prints: Prints, path: str | os.PathLike[str]) -> Path:
    """Write prints as a NumPy archive, whole or not at all.

    Parameters
    ----------
    prints : Prints
        Without the images that have none.
    path : path-like
        Ends in ``.npz``; replaced if it exists.

    Returns
    -------
    Path
        The file that was written.

    Raises
    ------
    ArgumentError
        If the ending is another.
    OSError
        If it cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> _ = dotledger.write_prints(dotledger.image_prints("photos"), "known.npz")
    >>> len(dotledger.read_prints("known.npz")) > 30
    True
    """
    if Path(path).suffix.lower() != ".npz":
        raise ArgumentError("prints are kept in .npz files", place="prints", got=str(path))
    columns = {name: getattr(prints, name) for name in _COLUMNS}
    names = np.array(prints.names, dtype=np.str_) if len(prints) else np.zeros(0, dtype="U1")
    with whole_file(Path(path)) as draft, draft.open("wb") as file:
        np.savez_compressed(file, version=np.array(_VERSION), names=names, **columns)
    return Path(path)


def read_prints(path: str | os.PathLike[str]) -> Prints:
    """Read a file that `write_prints` wrote.

    Parameters
    ----------
    path : path-like
        A NumPy archive; nothing in it is run.

    Returns
    -------
    Prints
        The prints that were written.

    Raises
    ------
    TableError
        If it cannot be read, or is no such file.

    Examples
    --------
    >>> import dotledger
    >>> _ = dotledger.write_prints(dotledger.image_prints("photos"), "known.npz")
    >>> dotledger.read_prints("known.npz").names[0]
    'crowd-01.jpg'
    """
    try:
        packed = io.BytesIO(read_regular(path, _MOST))
        with zipfile.ZipFile(packed) as archive:
            for place, facts in enumerate(archive.infolist()):
                check_unpacked(facts, sum(one.file_size for one in archive.infolist()[:place]))
        with np.load(packed, allow_pickle=False) as kept:
            if int(kept["version"]) != _VERSION:
                raise TableError("prints of another version", place=str(path))
            return Prints(
                names=tuple(kept["names"].tolist()),
                **{name: kept[name].astype(np.uint8) for name in _COLUMNS},
            )
    except OSError as error:
        reason = error.strerror or str(error)
        raise TableError(f"prints cannot be read ({reason})", place=str(path)) from error
    except (KeyError, ValueError, TypeError, EOFError, zipfile.BadZipFile, ArgumentError) as error:
        raise TableError(
            "not a file of prints",
            place=str(path),
            next_step="`dotledger.write_prints` writes one.",
        ) from error


def known_prints(path: str | os.PathLike[str]) -> Prints:
    """Return the prints of known images, whichever way they are given.

    Parameters
    ----------
    path : path-like
        An ``.npz`` file of prints; or an image, a folder or a list of images.

    Returns
    -------
    Prints
        Of the images that can be decoded.

    Raises
    ------
    TableError
        If a file of prints cannot be read, or an image that is known cannot be decoded: what is
        looked for must not go missing unnoticed.
    GatherError
        If no image is there.
    """
    if Path(path).suffix.lower() == ".npz":
        return read_prints(path)
    from dotledger.images.image_gathering import gather
    from dotledger.images.image_prints import prints_of

    made = prints_of(gather(Path(path)).items)
    if made.unreadable:
        name, reason = made.unreadable[0]
        raise TableError(
            f"{counted(len(made.unreadable), 'known image')} without a print",
            place=f"{path}: {name}",
            got=reason,
            next_step="Take them out of the known images.",
        )
    return made
