"""What a Croissant description names: files, record sets, fields."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from dotledger.errors import TableError

__all__ = ["Described", "Field", "File", "RecordSet", "is_croissant", "read_document"]

CONFORMS = "http://mlcommons.org/croissant/1.0"
_PREFIXES = (
    "http://mlcommons.org/croissant/",
    "https://schema.org/",
    "http://schema.org/",
    "http://purl.org/dc/terms/",
    "cr:",
    "sc:",
    "schema:",
    "dct:",
)


@dataclass(frozen=True, kw_only=True)
class File:
    """A file, or a set of files.

    Attributes
    ----------
    id : str
        By which fields name it.
    url : str
        Where it is; empty for a set.
    encoding : str
        Its media type.
    inside : str
        The id of the archive that it lies in; empty if in none.
    sha256 : str
        Of its bytes; empty if that is not told.
    patterns : tuple of str
        Of a set: which files it takes, with ``*``; empty for a single file.
    """

    id: str
    url: str = ""
    encoding: str = ""
    inside: str = ""
    sha256: str = ""
    patterns: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Field:
    """One field of a record set.

    Attributes
    ----------
    id, name : str
        The name is the last part of the id where none is given.
    types : tuple of str
        Without their prefix: ``Text``, ``BoundingBox``, ``Label``, ``ImageObject``.
    source : str
        The id of the file or set that it is taken from; empty if from none.
    column, path, about_file : str
        What is taken: a column, values of JSON by a path, or a property of the file; one of them.
    pattern : str
        Only what the first group of this expression takes of a text.
    inner : str
        A path within each value.
    form : str
        Of a box: how its four numbers are written.
    refers_to : str
        The id of the field that these values name.
    """

    id: str
    name: str
    types: tuple[str, ...] = ()
    source: str = ""
    column: str = ""
    path: str = ""
    about_file: str = ""
    pattern: str = ""
    inner: str = ""
    form: str = ""
    refers_to: str = ""


@dataclass(frozen=True, kw_only=True)
class RecordSet:
    """Records, all with the same fields.

    Attributes
    ----------
    id : str
        Unique.
    fields : tuple of Field
        Those of parts of fields too.
    data : tuple of dict
        Records that stand in the description itself, by id of the field.
    """

    id: str
    fields: tuple[Field, ...]
    data: tuple[Mapping[str, Any], ...] = ()


@dataclass(frozen=True, kw_only=True)
class Described:
    """A description.

    Attributes
    ----------
    files : mapping of str to File
        By id.
    record_sets : mapping of str to RecordSet
        By id.
    place : Path
        Where it stands.
    """

    files: Mapping[str, File]
    record_sets: Mapping[str, RecordSet]
    place: Path


def is_croissant(data: Any) -> bool:
    """Tell whether JSON declares itself as Croissant."""
    if not isinstance(data, dict):
        return False
    return any("mlcommons.org/croissant" in id_of(one) for one in _listed(_own(data, "conformsTo")))


def read_document(data: Mapping[str, Any], place: Path) -> Described:
    """Return what a description names.

    Parameters
    ----------
    data : mapping
        Read from JSON. Keys may have their prefix (``cr:field``) or none.

    Raises
    ------
    TableError
        If two things have one id, or anything has none.
    """
    files = [_file(one) for one in _listed(_own(data, "distribution")) if isinstance(one, dict)]
    sets = [_record_set(one) for one in _listed(_own(data, "recordSet")) if isinstance(one, dict)]
    fields = [field for one in sets for field in one.fields]
    seen: set[str] = set()
    for id in (*(f.id for f in files), *(s.id for s in sets), *(f.id for f in fields)):
        if not id or id in seen:
            what = "two parts of the description have one @id" if id else "a part has no @id"
            raise TableError(what, place=str(place), got=id)
        seen.add(id)
    return Described(
        files={one.id: one for one in files},
        record_sets={one.id: one for one in sets},
        place=place,
    )


def _own(node: Mapping[str, Any], name: str) -> Any:
    """Return the value of a key, whatever prefix it has."""
    for prefix in ("", *_PREFIXES):
        if prefix + name in node:
            return node[prefix + name]
    return None


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [] if value is None else [value]


def id_of(value: Any) -> str:
    """Return the id that a reference holds, or a text itself; empty for anything else."""
    if isinstance(value, dict):
        value = value.get("@id")
    return value if isinstance(value, str) else ""


def _text(node: Mapping[str, Any], name: str) -> str:
    value = _own(node, name)
    return value if isinstance(value, str) else ""


def _bare(name: str) -> str:
    for prefix in _PREFIXES:
        name = name.removeprefix(prefix)
    return name


def _file(node: Mapping[str, Any]) -> File:
    return File(
        id=id_of(node) or _text(node, "name"),
        url=_text(node, "contentUrl"),
        encoding=_text(node, "encodingFormat"),
        inside=id_of(next(iter(_listed(_own(node, "containedIn"))), None)),
        sha256=_text(node, "sha256").lower(),
        patterns=tuple(one for one in _listed(_own(node, "includes")) if isinstance(one, str)),
    )


def _record_set(node: Mapping[str, Any]) -> RecordSet:
    id = id_of(node) or _text(node, "name")
    data = tuple(one for one in _listed(_own(node, "data")) if isinstance(one, dict))
    return RecordSet(id=id, fields=tuple(_fields(_listed(_own(node, "field")))), data=data)


def _fields(nodes: Iterable[Any]) -> Iterator[Field]:
    """Yield fields and the parts of fields; a part without a source has that of the whole."""
    waiting: list[tuple[Any, Field | None]] = [(node, None) for node in nodes]
    while waiting:
        node, whole = waiting.pop(0)
        if not isinstance(node, dict):
            continue
        one = _field(node, whole)
        parts = _listed(_own(node, "subField"))
        waiting += [(part, one) for part in parts]
        if not parts:
            yield one


def _field(node: Mapping[str, Any], whole: Field | None) -> Field:
    source = _own(node, "source") if isinstance(_own(node, "source"), dict) else {}
    extract = _own(source, "extract") if isinstance(_own(source, "extract"), dict) else {}
    changes = [one for one in _listed(_own(source, "transform")) if isinstance(one, dict)]
    id = id_of(node)
    refers = _own(node, "references")
    found = Field(
        id=id,
        name=_text(node, "name").rpartition("/")[2] or id.rpartition("/")[2],
        types=tuple(_bare(id_of(one)) for one in _listed(_own(node, "dataType"))),
        source=id_of(_own(source, "fileObject")) or id_of(_own(source, "fileSet")),
        column=_text(extract, "column"),
        path=_text(extract, "jsonPath"),
        about_file=_text(extract, "fileProperty"),
        pattern=next((_text(one, "regex") for one in changes if _text(one, "regex")), ""),
        inner=next((_text(one, "jsonPath") for one in changes if _text(one, "jsonPath")), ""),
        form=(_text(source, "format") or _text(node, "format")).upper(),
        refers_to=_referred(refers),
    )
    if whole is None or found.source:
        return found
    taken = {"source": whole.source, "column": whole.column, "path": whole.path}
    return Field(**{**vars(found), **taken, "inner": found.inner or found.name})


def _referred(value: Any) -> str:
    """Return the field that a reference names; 1.0 writes it below ``field``, too."""
    node = next(iter(_listed(value)), None)
    inner = _own(node, "field") if isinstance(node, dict) else None
    return id_of(inner) or id_of(node)
