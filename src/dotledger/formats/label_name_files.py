"""Files that map label names: CSV and TOML, and SKOS vocabularies."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from dotledger.core.kinds import KINDS
from dotledger.core.spelling import nearest
from dotledger.core.tables.label_name_mapping import NameMap
from dotledger.errors import MissingExtra, TableError
from dotledger.formats.tables.csv_columns import unguard
from dotledger.json_codec import from_json
from dotledger.safe_files import parse_toml, read_regular, whole_file

__all__ = ["read_names", "write_skos"]

_COLUMNS = ("service", "kind", "label", "becomes", "broader")
_SKOS = {".ttl": "turtle", ".jsonld": "json-ld"}
_ENDINGS = (".csv", ".toml", *_SKOS)


def read_names(path: str | os.PathLike[str]) -> NameMap:
    """Read a mapping of label names.

    Parameters
    ----------
    path : path-like
        CSV with the columns ``label,becomes`` and if wanted ``service,kind,broader``; TOML with
        ``[names]``, ``[services.NAME]`` and ``[broader]``; or SKOS in Turtle (``.ttl``) or JSON-LD
        (``.jsonld``), where other spellings of a concept become its preferred one.

    Raises
    ------
    TableError
        Naming file and line, for anything that cannot be read as such a mapping.
    MissingExtra
        For SKOS without rdflib.
    """
    file = Path(path)
    ending = file.suffix.lower()
    if ending not in _ENDINGS:
        raise TableError(
            "the file's ending names no known format",
            place=str(file),
            got=ending,
            allowed=_ENDINGS,
        )
    try:
        if ending == ".csv":
            return _from_csv(file)
        return _from_toml(file) if ending == ".toml" else _from_skos(file)
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "not text in UTF-8"
        raise TableError(f"the file cannot be read ({reason})", place=str(file)) from error


def _from_csv(file: Path) -> NameMap:
    names: dict[tuple[str, str, str], str] = {}
    broader: dict[str, tuple[str, ...]] = {}
    lines = io.StringIO(read_regular(file).decode("utf-8-sig"), newline="")
    reader = csv.DictReader(lines, restkey="", restval="")
    try:
        for name in reader.fieldnames or ():
            if name not in _COLUMNS:
                raise _unknown(f"{file}, line 1", name)
        for row in reader:
            place = f"{file}, line {reader.line_num}"
            _add_row({k: unguard(v.strip()) for k, v in row.items() if k}, place, names, broader)
    except csv.Error as error:
        raise TableError(f"not CSV ({error})", place=f"{file}, line {reader.line_num}") from error
    return NameMap(names=names, broader=broader)


def _unknown(place: str, name: str) -> TableError:
    close = nearest(name, _COLUMNS)
    hint = f" (did you mean {close[0]!r}?)" if close else ""
    return TableError(f"unknown column{hint}", place=place, got=name, allowed=_COLUMNS)


def _add_row(
    row: Mapping[str, str],
    place: str,
    names: dict[tuple[str, str, str], str],
    broader: dict[str, tuple[str, ...]],
) -> None:
    kind, label, becomes = row.get("kind", ""), row.get("label", ""), row.get("becomes", "")
    if kind and kind not in KINDS:
        raise TableError("unknown kind", place=place, got=kind, allowed=KINDS)
    if not label:
        raise TableError("a row needs a label", place=place, got="")
    key = (row.get("service", ""), kind, label)
    if names.setdefault(key, becomes) != becomes:
        raise TableError("the label is mapped twice", place=place, got=label)
    if becomes and row.get("broader"):
        broader[becomes] = tuple(part.strip() for part in row["broader"].split(";"))


def _from_toml(file: Path) -> NameMap:
    try:
        data = parse_toml(read_regular(file).decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise
    except ValueError as error:
        raise TableError(f"not TOML: {error}", place=str(file)) from error
    for section in data:
        if section not in ("names", "services", "broader"):
            raise TableError(
                "unknown section",
                place=str(file),
                got=section,
                allowed=["names", "services", "broader"],
            )
    names = {("", "", label): becomes for label, becomes in _pairs(data, "names", file)}
    for service in _section(data, "services", file):
        own = _pairs(data["services"], service, file)
        names |= {(service, "", label): becomes for label, becomes in own}
    listed = _section(data, "broader", file)
    broader = {label: _broader_of(label, up, file) for label, up in listed.items()}
    return NameMap(names=names, broader=broader)


def _broader_of(label: str, up: Any, file: Path) -> tuple[str, ...]:
    ups = [up] if isinstance(up, str) else up
    if not isinstance(ups, list) or not all(isinstance(one, str) for one in ups):
        place = f"{file}, broader.{label}"
        raise TableError("broader labels are a text or a list of texts", place=place, got=up)
    return tuple(ups)


def _section(data: Mapping[str, Any], name: str, file: Path) -> Mapping[str, Any]:
    found = data.get(name, {})
    if not isinstance(found, dict):
        raise TableError("this is a section of its own", place=f"{file}, {name}", got=found)
    return found


def _pairs(data: Mapping[str, Any], section: str, file: Path) -> Iterator[tuple[str, str]]:
    for label, becomes in _section(data, section, file).items():
        if not isinstance(becomes, str):
            raise TableError(
                "a label becomes another label, or '' to leave it out",
                place=f"{file}, {section}.{label}",
                got=becomes,
            )
        yield label, becomes


def _rdflib() -> Any:
    try:
        import rdflib
    except ImportError as error:
        raise MissingExtra(
            "SKOS vocabularies need rdflib", next_step="Run: pip install 'dot-ledger[skos]'"
        ) from error
    return rdflib


def _from_skos(file: Path) -> NameMap:
    """Read concepts: https://www.w3.org/TR/skos-reference/."""
    rdflib = _rdflib()
    skos, graph = rdflib.SKOS, rdflib.Graph()
    try:
        data = read_regular(file)
        if file.suffix.lower() == ".jsonld":
            _refuse_elsewhere(data, file)
        graph.parse(data=data, format=_SKOS[file.suffix.lower()], publicID="urn:vocabulary:")
    except TableError:
        raise
    except Exception as error:  # rdflib raises as many kinds as it has parsers
        raise TableError(f"not a SKOS vocabulary ({error})", place=str(file)) from error
    preferred = {concept: str(text) for concept, text in graph.subject_objects(skos.prefLabel)}
    names = {("", "", label): label for label in preferred.values()}
    for spelling in (skos.altLabel, skos.hiddenLabel):
        for concept, text in graph.subject_objects(spelling):
            if concept in preferred:
                names["", "", str(text)] = preferred[concept]
    broader: dict[str, tuple[str, ...]] = {}
    for concept, up in sorted(graph.subject_objects(skos.broader)):
        if concept in preferred and up in preferred:
            label = preferred[concept]
            broader[label] = (*broader.get(label, ()), preferred[up])
    return NameMap(names=names, broader=broader)


def _refuse_elsewhere(data: bytes, file: Path) -> None:
    """Refuse JSON-LD whose meaning stands elsewhere: reading a file opens no address."""
    waiting: list[Any] = [from_json(data)]
    while waiting:
        part = waiting.pop()
        if isinstance(part, dict):
            contexts = part.get("@context", [])
            named = contexts if isinstance(contexts, list) else [contexts]
            if "@import" in part or any(isinstance(one, str) for one in named):
                raise TableError(
                    "its context stands elsewhere, and no address is opened to read a file",
                    place=str(file),
                    next_step="Put the context itself into the file.",
                )
            waiting += part.values()
        elif isinstance(part, list):
            waiting += part


def write_skos(names: NameMap, path: str | os.PathLike[str]) -> Path:
    """Write a mapping as a SKOS vocabulary, in Turtle (``.ttl``) or JSON-LD (``.jsonld``).

    What is particular to one service or kind becomes an alternative label like any other.

    Raises
    ------
    TableError
        If the ending names neither.
    MissingExtra
        Without rdflib.
    """
    target = Path(path)
    if target.suffix.lower() not in _SKOS:
        raise TableError(
            "the file's ending names no known format",
            place=str(target),
            got=target.suffix,
            allowed=_SKOS,
        )
    rdflib = _rdflib()
    graph = rdflib.Graph()
    labels = sorted({*names.targets, *(up for ups in names.broader.values() for up in ups)})
    concepts = {label: rdflib.URIRef(f"urn:label:{_slug(label)}") for label in labels}
    for label, concept in concepts.items():
        graph.add((concept, rdflib.RDF.type, rdflib.SKOS.Concept))
        graph.add((concept, rdflib.SKOS.prefLabel, rdflib.Literal(label)))
    for (_, _, label), becomes in names.names.items():
        if becomes and label != becomes:
            graph.add((concepts[becomes], rdflib.SKOS.altLabel, rdflib.Literal(label)))
    for label, ups in names.broader.items():
        for up in ups:
            graph.add((concepts[label], rdflib.SKOS.broader, concepts[up]))
    with whole_file(target) as draft:
        graph.serialize(draft, format=_SKOS[target.suffix.lower()])
    return target


def _slug(label: str) -> str:
    from urllib.parse import quote

    return quote(label, safe="")
