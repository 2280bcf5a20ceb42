"""Results as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from dotledger.core.measurement.measure_result import Measure
from dotledger.formats.tables.findings_files import PathLike, with_parquet, write_rows
from dotledger.json_codec import to_json
from dotledger.safe_files import whole_file

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["write_everything", "write_frame"]


_DIGITS = 6
"""After the point; a measure is not known better than that."""


def write_frame(frame: pd.DataFrame, path: PathLike) -> None:
    """Write a frame, whole or not at all; NaN as empty cells or null, text in CSV guarded.

    Parameters
    ----------
    path : path-like
        A file to write; ``.jsonl`` and ``.parquet`` by their endings, anything else as CSV.

    Raises
    ------
    OSError
        If the folder cannot be written.
    MissingExtra
        For Parquet without pyarrow.
    """
    ending = Path(path).suffix.lower()
    if ending == ".parquet":
        with_parquet()
        with whole_file(Path(path)) as draft:
            frame.to_parquet(draft, index=False)
        return
    floats = frame.select_dtypes("float").columns
    rounded = frame.assign(**{name: frame[name].round(_DIGITS) for name in floats})
    plain = rounded.astype(object).where(frame.notna(), None)
    with whole_file(Path(path)) as draft:
        if ending == ".jsonl":
            lines = [to_json(row) for row in plain.to_dict("records")]
            draft.write_bytes(b"".join(line + b"\n" for line in lines))
            return
        write_rows(draft, [str(name) for name in plain.columns], plain.to_numpy().tolist())


def write_everything(measure: Measure, folder: PathLike) -> list[Path]:
    """Write everything a measure knows into a folder, one CSV file for each table.

    Parameters
    ----------
    folder : path-like
        Made if it is not there.
    """
    home = Path(folder)
    home.mkdir(parents=True, exist_ok=True)
    written = []
    for name, frame in _frames(measure).items():
        write_frame(frame, home / f"{name}.csv")
        written.append(home / f"{name}.csv")
    return written


def _frames(measure: Measure) -> dict[str, pd.DataFrame]:
    """Return every table of a measure by name; those by kind are put under each other."""
    why, pooled = measure.why(), _pooled(measure)
    found = {
        "labels": measure.frame(),
        "pooled": pooled,
        "images": measure.images(),
        "reasons": why.shares(),
        "wrong": why.frame("wrong"),
        "missed": why.frame("missed"),
        "reliability": _stacked({k: r.frame() for k, r in measure.reliability().items()}),
        "counts": _stacked({k: c.frame() for k, c in measure.counts().items()}),
        **{f"confusion-{k}": c.frame().reset_index() for k, c in measure.confusion().items()},
        **{
            f"by-{_file_name(name)}": _stacked({k: s.frame() for k, s in measure.by(name).items()})
            for name in measure.slice_names()
        },
        **_details(measure),
    }
    if measure.basis.pairing == "confidence":
        found |= {f"curve-{kind}": measure.curve(kind) for kind in measure.kinds}
    return found


def _file_name(name: str) -> str:
    """Return a user's column name as a part of a file name; it is text, never a path."""
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in name)[:60]


def _pooled(measure: Measure) -> pd.DataFrame:
    import pandas as pd

    rows = [("all kinds", measure.pooled), *((k, m.pooled) for k, m in measure.kinds.items())]
    flat = []
    for kind, row in rows:
        plain = row.to_dict()
        plain.pop("contributing_images", None)
        for name, ends in (plain.pop("intervals", None) or {}).items():
            plain[f"{name}_low"], plain[f"{name}_high"] = ends or (None, None)
        flat.append({"kind": kind, **plain})
    return pd.DataFrame(flat)


def _stacked(frames: dict[str, pd.DataFrame]) -> pd.DataFrame:
    import pandas as pd

    parts = [frame.assign(kind=kind) for kind, frame in frames.items()]
    if not parts:
        return pd.DataFrame(columns=["kind"])
    stacked = pd.concat(parts, ignore_index=True)
    return stacked[["kind", *(name for name in stacked.columns if name != "kind")]]


def _details(measure: Measure) -> dict[str, pd.DataFrame]:
    """Return what is judged on pairs, screening and text lines, where there are any."""
    details = {kind: found.frame() for kind, found in measure.details().items()}
    details = {kind: frame for kind, frame in details.items() if len(frame)}
    screening, text = measure.screening(), measure.text()
    return {
        **({"details": _stacked(details)} if details else {}),
        **({"screening": screening.frame()} if screening else {}),
        **({"text": text.frame()} if text else {}),
    }
