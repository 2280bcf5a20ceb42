"""Taking an answer apart into plain values: JSON, lines of JSON, XML, JSON as text inside."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, Literal

from dotledger.errors import AnswerError, DescriptionError
from dotledger.json_codec import NotJSON, from_json
from dotledger.reading.answer_paths import names_of_path
from dotledger.xml_parsing import plain_values, xml_root

__all__ = ["Written", "document_reader", "xml_document"]

Written = Literal["json", "lines", "xml"]
"""How a service writes its answers; ``lines`` is one JSON document in each line."""


def document_reader(
    written: Written = "json", texts: Sequence[str] = (), lists: Iterable[str] = ()
) -> Callable[[bytes], Any]:
    """Return a function from an answer's bytes to plain values, as in JSON.

    Parameters
    ----------
    written : str, default 'json'
        ``json``; ``lines`` (a JSON document in each line, which become one list); ``xml``.
    texts : sequence of str
        Paths, as in ``each``, at which JSON stands as text; it takes the text's place.
    lists : iterable of str
        Names of XML elements that always become lists, also where there is one.

    Returns
    -------
    callable
        It raises AnswerError for what is not written so, with the beginning of it.

    Raises
    ------
    DescriptionError
        If a path of `texts` is none.
    """
    always = tuple(lists)
    ways: dict[str, Callable[[bytes], Any]]
    ways = {"json": _json, "lines": _lines, "xml": lambda body: _xml(body, always)}
    whole = ways[written]
    inner = [names_of_path(path, place="texts") for path in texts]
    if any(not names for names in inner):
        raise DescriptionError("a path of names, [] and {} is needed", place="texts", got="")
    if not inner:
        return whole

    def read(body: bytes) -> Any:
        document = whole(body)
        for names in inner:
            document = _opened(document, names)
        return document

    return read


def _json(body: bytes) -> Any:
    try:
        return from_json(body)
    except NotJSON as error:
        raise _not(body, "JSON", error) from error


def _lines(body: bytes) -> list[Any]:
    try:
        return [from_json(line) for line in body.splitlines() if line.strip()]
    except NotJSON as error:
        # A single document may be spread over lines, such as the promise of an answer.
        try:
            whole = from_json(body)
        except NotJSON:
            raise _not(body, "lines of JSON", error) from error
        return whole if isinstance(whole, list) else [whole]


def _xml(body: bytes, lists: tuple[str, ...]) -> Any:
    try:
        return xml_document(body, lists)
    except ValueError as error:
        raise _not(body, "XML", error) from error


def _not(body: bytes, what: str, error: Exception) -> AnswerError:
    start = body[:40].decode("utf-8", "replace")
    return AnswerError(f"the answer is not {what} ({error})", got=start)


def xml_document(data: bytes, lists: Iterable[str] = ()) -> Any:
    """Return an XML document as plain values.

    Parameters
    ----------
    data : bytes
        Entities of its own and outside files are never followed.
    lists : iterable of str
        Elements that always become lists; others do where they stand several times.

    Returns
    -------
    object
        Elements by name; an attribute ``a`` as ``_a``, text beside attributes as ``_text``.

    Raises
    ------
    ValueError
        If it is not XML, or names entities of its own.
    """
    return plain_values(xml_root(data), tuple(lists))


def _opened(value: Any, names: Sequence[str]) -> Any:
    """Return a document in which the text at a path is replaced by what it says as JSON."""
    if not names:
        return _inner(value)
    name, *deeper = names
    if name == "[]":
        return [_opened(one, deeper) for one in value] if isinstance(value, list) else value
    if not isinstance(value, dict):
        return value
    chosen = list(value) if name == "{}" else [name] if name in value else []
    return {**value, **{key: _opened(value[key], deeper) for key in chosen}}


def _inner(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    try:
        return from_json(value)
    except NotJSON as error:
        raise AnswerError(f"the text inside is not JSON ({error})", got=value[:40]) from error
