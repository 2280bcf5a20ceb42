"""How sample answers are written, and what is around the findings: versions, jobs, parts."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.errors import ArgumentError
from dotledger.json_codec import NotJSON, from_json
from dotledger.reading.answer_documents import Written, document_reader, xml_document
from dotledger.reading.error_messages import ERROR_NAMES, is_fault
from dotledger.services.drafting.box_drafting import toml_text
from dotledger.text_display import shown

__all__ = ["Samples", "nothing_said", "samples_of", "unpacked"]


class Samples(Struct, kw_only=True):
    """Sample answers, taken apart.

    Attributes
    ----------
    documents : list
        Plain values, as a description with this envelope would open them.
    envelope : dict of str to str or list of str
        Keys of ``[envelope]``.
    sections : list of str
        Sections of the call, as TOML lines.
    questions : list of str
        What no sample tells of those.
    """

    documents: list[Any]
    envelope: dict[str, str | list[str]] = field(default_factory=dict)
    sections: list[str] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)


_WORKING = (
    *("accepted", "queued", "pending", "processing", "running", "started", "submitted"),
    *("waiting", "working", "in_progress"),
)
_DONE = ("done", "succeeded", "success", "completed", "complete", "finished", "ready", "ok")
_STATES = ("state", "status", "phase")
_NEXT = re.compile(
    r"(next(_?(page|token|page_?token|link|url|cursor|marker))?|continuation(_?token)?|cursor|more)$",
    re.IGNORECASE,
)
_VERSION = re.compile(r"(model|api|service|engine)?[_-]?version$|model$", re.IGNORECASE)


def samples_of(answers: Sequence[bytes]) -> Samples:
    """Take sample answers apart, however they are written.

    Parameters
    ----------
    answers : sequence of bytes
        As received: JSON, lines of JSON, or XML; all of one sort.

    Returns
    -------
    Samples
        With what the envelope must say.

    Raises
    ------
    ArgumentError
        If one is none of these.
    """
    answers = [unpacked(one) for one in answers]
    written = _written(answers)
    lists = _repeated(answers) if written == "xml" else ()
    plain = [document_reader(written, lists=lists)(one) for one in answers]
    texts = sorted({path for one in plain for path in _inner(one, ())})
    documents = [document_reader(written, texts, lists)(one) for one in answers]
    made = Samples(documents=documents)
    if written != "json":
        made.envelope["written"] = written
    if texts:
        made.envelope["texts"] = texts
    if version := _first(documents, _VERSION):
        made.envelope["version"] = version
    _note_job(made)
    _note_more(made)
    if written == "xml":
        made.documents = [_with_numbers(one) for one in documents]
    return made


_MOST_UNPACKED = 64 << 20


def unpacked(answer: bytes) -> bytes:
    """Return an answer that was saved packed with gzip, as it went over the network, unpacked.

    Raises
    ------
    ArgumentError
        If it is damaged, or unpacks to more than 64 MiB.
    """
    if not answer.startswith(b"\x1f\x8b"):
        return answer
    unpack = zlib.decompressobj(wbits=31)
    try:
        plain = unpack.decompress(answer, _MOST_UNPACKED)
    except zlib.error as error:
        raise ArgumentError(
            "a sample is packed with gzip, and cannot be unpacked", place="SAMPLES", got=str(error)
        ) from error
    if not unpack.eof and not unpack.unconsumed_tail:
        raise ArgumentError("a sample is packed with gzip, and it breaks off", place="SAMPLES")
    if unpack.unconsumed_tail:
        raise ArgumentError(
            "a sample unpacks to more than can be drafted from",
            place="SAMPLES",
            allowed=[f"at most {_MOST_UNPACKED:,} bytes"],
        )
    return plain


def nothing_said(documents: Sequence[Any]) -> tuple[str, str]:
    """Return why samples hold nothing that can be drafted from, and what to give instead.

    Parameters
    ----------
    documents : sequence
        The samples as plain values.
    """
    for one in documents:
        keys = one if isinstance(one, dict) else {}
        faults = [v for key, v in keys.items() if key.casefold() in ERROR_NAMES and is_fault(v)]
        if faults:
            return (
                f"a sample says that the call failed: {shown(faults[0], 80)}",
                "Save the answer of a call that succeeded, and draft from that.",
            )
    empty = list(dict.fromkeys(name for one in documents for name in _empty(one, ())))
    if empty:
        return (
            f"nothing was found in the samples: there is nothing at {', '.join(empty[:4])}",
            "Give an answer about an image in which the service finds something.",
        )
    return (
        "no place in the samples looks like a list of findings",
        "Give more samples with their images, or write the rule by hand.",
    )


def _empty(value: Any, path: tuple[str, ...]) -> Iterator[str]:
    """Yield the paths of lists and objects without anything in them."""
    if value in ([], {}) and path:
        yield ".".join(path)
    for name, inner in value.items() if isinstance(value, dict) else ():
        yield from _empty(inner, (*path, name))
    for inner in value if isinstance(value, list) else ():
        yield from _empty(inner, path)


def _written(answers: Sequence[bytes]) -> Written:
    ways: tuple[Written, ...] = ("json", "lines", "xml")
    for written in ways:
        try:
            for one in answers:
                document_reader(written)(one)
        except Exception:  # the next way may do; if none does, that is said below
            continue
        return written
    raise ArgumentError(
        "neither JSON, nor lines of JSON, nor XML, all in the same way",
        place="SAMPLES",
        got=[one[:40].decode("utf-8", "replace") for one in answers[:3]],
    )


def _repeated(answers: Sequence[bytes]) -> tuple[str, ...]:
    """Return the elements that stand several times in some sample: they are lists in all."""
    return tuple(dict.fromkeys(n for one in answers for n in _list_names(xml_document(one))))


def _list_names(value: Any) -> Iterator[str]:
    for name, inner in value.items() if isinstance(value, dict) else ():
        if isinstance(inner, list):
            yield name
        for one in inner if isinstance(inner, list) else [inner]:
            yield from _list_names(one)


def _with_numbers(value: Any) -> Any:
    """Return a document in which text that is a number is one: XML knows nothing else."""
    if isinstance(value, dict):
        return {name: _with_numbers(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_with_numbers(inner) for inner in value]
    if isinstance(value, str) and re.fullmatch(r"-?\d+(\.\d+)?", value):
        return float(value) if "." in value else int(value)
    return value


def _inner(value: Any, path: tuple[str, ...]) -> Iterator[str]:
    """Yield the paths at which JSON stands as text."""
    if isinstance(value, dict):
        for name, one in value.items():
            if re.fullmatch(r"[\w-]+", name):
                yield from _inner(one, (*path, name))
    elif isinstance(value, list):
        for one in value[:3]:
            yield from _inner(one, (*path[:-1], f"{path[-1]}[]") if path else ("[]",))
    elif isinstance(value, str) and value[:1] in "{[" and len(value) > 2 and path:
        try:
            from_json(value)
        except NotJSON:
            return
        yield ".".join(path)


def _leaves(value: Any, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Yield path and value of single values, two objects deep."""
    for name, inner in value.items() if isinstance(value, dict) else ():
        if isinstance(inner, dict) and len(path) < 2:
            yield from _leaves(inner, (*path, name))
        elif isinstance(inner, str | int | float) and not isinstance(inner, bool):
            yield (*path, name), inner


def _first(documents: Sequence[Any], name: re.Pattern[str]) -> str:
    """Return the path of a text with such a name that every sample has."""
    found = [
        {".".join(at): v for at, v in _leaves(one) if name.match(at[-1]) and isinstance(v, str)}
        for one in documents
    ]
    common = [at for at in found[0] if all(at in one for one in found)] if found else []
    return min(common, key=lambda at: at.count("."), default="")


def _note_job(made: Samples) -> None:
    """Recognise an answer that is only a promise, and the word with which it is kept."""
    states = [
        {".".join(at): str(v) for at, v in _leaves(one) if at[-1].lower() in _STATES}
        for one in made.documents
    ]
    promised = [
        place
        for place, one in enumerate(states)
        if any(word.lower() in _WORKING for word in one.values())
    ]
    if not promised:
        return
    first = made.documents[promised[0]]
    at, _ = next((p, w) for p, w in states[promised[0]].items() if w.lower() in _WORKING)
    done = sorted({one[at] for one in states if one.get(at, "").lower() in _DONE})
    id_at = next((".".join(p) for p, _ in _leaves(first) if p[-1].lower().endswith("id")), "")
    address = next((".".join(p) for p, v in _leaves(first) if str(v).startswith(("http", "/"))), "")
    by_id = [f"id = {toml_text(id_at or 'id')}", 'path = "/jobs/{id}"']
    lines = [f"address = {toml_text(address)}"] if address else by_id
    words = ", ".join(map(toml_text, done or ["done"]))
    made.sections += ["", "[call.job]", *lines, f"state = {toml_text(at)}", f"done = [{words}]"]
    made.questions.append(
        "where a job is asked for ([call.job]), and the words of its states: "
        + ("only its promise is among the samples" if not done else "as the samples have them")
    )
    kept = [one for place, one in enumerate(made.documents) if place not in promised]
    made.documents = kept


def _note_more(made: Samples) -> None:
    """Recognise that an answer says where its next part is."""
    for one in made.documents:
        for at, value in _leaves(one):
            if _NEXT.match(at[-1]) and isinstance(value, str) and value:
                lines = ["", "[call.more]", f"next = {toml_text('.'.join(at))}"]
                if not value.startswith(("http", "/", "?")):
                    lines.append(f"query = {toml_text(at[-1])}")
                    made.questions.append(
                        f"under which name of the query the next part is asked for ({at[-1]}?)"
                    )
                made.sections += lines
                return
