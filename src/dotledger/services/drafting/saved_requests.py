"""Requests that were saved: a line for curl, and HAR files as browsers and proxies write them."""

from __future__ import annotations

import base64
import binascii
import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from msgspec import Struct, field

from dotledger.errors import ArgumentError
from dotledger.json_codec import NotJSON, from_json
from dotledger.services.drafting.box_drafting import toml_text
from dotledger.services.drafting.request_samples import Asked, SavedPart, asked_by

__all__ = ["Saved", "from_curl", "from_har"]


class Saved(Struct, kw_only=True):
    """What a saved request holds: how the service was asked, and answers with their images."""

    asked: Asked
    answers: list[bytes] = field(default_factory=list)
    images: list[bytes] = field(default_factory=list)


# -- curl (https://curl.se/docs/manpage.html) -------------------------------------------------

_MEANINGS = {
    "method": "-X --request",
    "header": "-H --header",
    "data": "-d --data --data-ascii --data-raw --data-binary --data-urlencode --json",
    "form": "-F --form --form-string",
    "user": "-u --user",
    "upload": "-T --upload-file",
    "url": "--url",
    "bearer": "--oauth2-bearer",
    "": "-A --user-agent -b --cookie -e --referer -o --output -m --max-time --connect-timeout -x "
    "--proxy --cacert -E --cert --key --retry --limit-rate -w --write-out -c --cookie-jar",
}
"""Options that a value follows, by what they mean; "" for what tells nothing of a service."""
_ONE = {option: meaning for meaning, line in _MEANINGS.items() for option in line.split()}
_CONTINUED = re.compile(r"[\\^]\r?\n")
_RUN = re.compile(r"\$\([^)]*\)|`[^`]*`")
"""What a shell runs and puts in: in a question about an image, its bytes."""
_FLAGS = {"-G": "get", "--get": "get", "-I": "head", "--head": "head"}


def from_curl(text: str) -> Saved:
    """Return what a line for curl tells.

    Parameters
    ----------
    text : str
        As copied from a service's pages or a terminal; line ends may be continued.

    Raises
    ------
    ArgumentError
        If it is no such line, or names no address.
    """
    try:
        return _from_words(_words(text), text)
    except ArgumentError:
        raise
    except (ValueError, TypeError, AttributeError, RecursionError) as error:
        raise ArgumentError(
            f"the line cannot be taken apart ({error})", place="curl", got=text[:80]
        ) from error


def _from_words(given: Mapping[str, list[str]], text: str) -> Saved:
    url = next(iter(given.get("url", [])), "")
    if not urlsplit(url).netloc:
        raise ArgumentError(
            "the line names no address",
            place="curl",
            got=text[:80],
            next_step="Copy the whole line, from 'curl' on, with its https:// address.",
        )
    headers = [_pair(line) for line in given.get("header", [])]
    headers += [("Authorization", "Basic x")] if given.get("user") else []
    headers += [("Authorization", "Bearer x")] if given.get("bearer") else []
    data, method = given.get("data", []), given.get("method", [])
    if "get" in given:
        url, data = f"{url}{'&' if '?' in url else '?'}{'&'.join(data)}", []
    sent = bool(data or given.get("form") or given.get("upload"))
    verb = (method or ["PUT" if given.get("upload") else "POST" if sent else "GET"])[0]
    return Saved(asked=_asked_by_curl(verb.upper(), url, headers, data, given))


def _asked_by_curl(
    verb: str,
    url: str,
    headers: list[tuple[str, str]],
    data: list[str],
    given: Mapping[str, list[str]],
) -> Asked:
    if given.get("form"):
        parts = [_form_part(one) for one in given["form"]]
        return asked_by(verb, url, headers, parts=parts)
    files = [one for one in (*given.get("upload", []), *data) if one.startswith("@")]
    if given.get("upload") or files:
        return asked_by(verb, url, headers, raw=_whole_body(headers, files))
    body = "&".join(data)
    if not body:
        return asked_by(verb, url, headers)
    try:
        return asked_by(verb, url, headers, document=from_json(_closed(body)))
    except NotJSON:
        pairs = parse_qsl(body, keep_blank_values=True)
        parts = [SavedPart(name=n, text=v) for n, v in pairs]
        return asked_by(verb, url, headers, parts=parts, urlencoded=True)


def _whole_body(headers: Sequence[tuple[str, str]], files: Sequence[str]) -> str:
    """Return how an image is sent that is the whole body: as text, if it says that it is text."""
    told = dict(headers).get("Content-Type", "").casefold()
    text = told.startswith("text/plain") or any(f.endswith((".b64", ".base64")) for f in files)
    return "base64" if text else "raw"


def _closed(body: str) -> str:
    """Return a JSON body in which what stands for something, such as $IMAGE, is text."""
    return re.sub(r":\s*(\$\w+|<[^>\"]*>)", r': "\1"', body).replace("\n", " ")


def _words(text: str) -> dict[str, list[str]]:
    """Return the values of a line's options by what they mean; the address is ``url``."""
    try:
        words = shlex.split(_RUN.sub("<base64>", _CONTINUED.sub(" ", text)))
    except ValueError as error:
        raise ArgumentError(
            f"the line cannot be taken apart ({error})", place="curl", got=text[:80]
        ) from error
    if not words or not words[0].endswith("curl"):
        raise ArgumentError("a line for curl begins with 'curl'", place="curl", got=text[:80])
    given: dict[str, list[str]] = {}
    rest = iter(words[1:])
    for word in rest:
        name, equals, value = word.partition("=") if word.startswith("--") else (word, "", "")
        if not equals and re.match(r"-[XHdFuT].", word):  # -XPOST
            name, equals, value = word[:2], "=", word[2:]
        if name in _ONE:
            given.setdefault(_ONE[name], []).append(value if equals else next(rest, ""))
        elif word in _FLAGS:
            given[_FLAGS[word]] = []
        elif not word.startswith("-"):
            given.setdefault("url", []).append(word if "://" in word else f"https://{word}")
    return given


def _pair(line: str) -> tuple[str, str]:
    name, _, value = line.partition(":")
    return name.strip(), value.strip()


def _form_part(text: str) -> SavedPart:
    name, _, value = text.partition("=")
    value, _, more = value.partition(";")
    media_type = next((m[5:] for m in more.split(";") if m.startswith("type=")), "")
    file = value[1:] if value[:1] in "@<" and value else ""
    return SavedPart(name=name, text="" if file else value, file=file, media_type=media_type)


# -- HAR 1.2 (http://www.softwareishard.com/blog/har-12-spec/) ---------------------------------


def from_har(data: bytes) -> Saved:
    """Return what a HAR file tells: of its requests, the one that brings an image.

    Returns
    -------
    Saved
        With the answers to such requests, and their images where they are in the file.

    Raises
    ------
    ArgumentError
        If it is no HAR file, or holds no request with an image.
    """
    try:
        entries = from_json(data)["log"]["entries"]
        exchanges = [_exchange(entry) for entry in entries]
    except (NotJSON, KeyError, TypeError, AttributeError, ValueError, RecursionError) as error:
        raise ArgumentError(
            "not a HAR file: log.entries with requests is missing", place="har"
        ) from error
    asking = [one for one in exchanges if one.asked.body]
    if not asking:
        raise ArgumentError(
            "no request of the file brings an image",
            place="har",
            got=[f"{one.asked.method} {one.asked.path}" for one in exchanges][:9],
            next_step="Save the file while an image is sent, with the content of requests.",
        )
    first = asking[0]
    same = [one for one in asking if one.asked.path == first.asked.path]
    saved = Saved(asked=first.asked)
    saved.images = [one.image for one in same]
    saved.answers = [one.answer for one in same]
    _note_job(saved, first, exchanges)
    _note_announced(saved.asked, first.headers)
    return saved


class _Exchange(Struct, kw_only=True):
    asked: Asked
    url: str
    status: int
    headers: dict[str, str]
    answer: bytes
    image: bytes


def _exchange(entry: Mapping[str, Any]) -> _Exchange:
    request, response = entry["request"], entry["response"]
    headers = [(h["name"], h["value"]) for h in request.get("headers", ())]
    post = request.get("postData") or {}
    asked, image = _body_of(request, headers, post)
    content = response.get("content") or {}
    text = content.get("text") or ""
    return _Exchange(
        asked=asked,
        url=request["url"],
        status=int(response.get("status", 0)),
        headers={h["name"].casefold(): h["value"] for h in response.get("headers", ())},
        answer=_bytes(text, content.get("encoding", "")),
        image=image,
    )


def _bytes(text: str, encoding: str) -> bytes:
    if encoding != "base64":
        return text.encode()
    try:
        return base64.b64decode(text)
    except binascii.Error:
        return b""


def _body_of(
    request: Mapping[str, Any], headers: list[tuple[str, str]], post: Mapping[str, Any]
) -> tuple[Asked, bytes]:
    method, url = request["method"], request["url"]
    kind, text = post.get("mimeType", "").partition(";")[0].strip(), post.get("text") or ""
    if kind.startswith("image/") or kind == "application/octet-stream":
        return asked_by(method, url, headers, raw="raw"), _bytes(text, post.get("encoding", ""))
    if post.get("params"):
        parts = [
            SavedPart(
                name=p["name"],
                text=p.get("value") or "",
                file=p.get("fileName") or "",
                media_type=p.get("contentType") or "",
            )
            for p in post["params"]
        ]
        urlencoded = kind == "application/x-www-form-urlencoded"
        asked = asked_by(method, url, headers, parts=parts, urlencoded=urlencoded)
        return _if_image(asked, parts), b""
    if text and ("json" in kind or text[:1] == "{"):
        try:
            document = from_json(text)
        except NotJSON:
            return asked_by(method, url, headers), b""
        return asked_by(method, url, headers, document=document), b""
    return asked_by(method, url, headers), b""


def _if_image(asked: Asked, parts: Sequence[SavedPart]) -> Asked:
    if not any(part.is_image for part in parts) and asked.body in ("multipart", "form"):
        asked.body = ""  # a form without a file: signing in, or the like
    return asked


def _note_job(saved: Saved, first: _Exchange, exchanges: Sequence[_Exchange]) -> None:
    """Recognise that the answer was asked for later: an id, or an address, of the first answer."""
    later = exchanges[exchanges.index(first) + 1 :]
    for at, value in _ids(_parsed(first.answer), ()):
        polls = [one for one in later if value in one.url and one.asked.method == "GET"]
        if polls:
            path = urlsplit(polls[0].url).path
            whole = "://" in value or value == path
            named = [f"id = {toml_text(at)}", f"path = {toml_text(path.replace(value, '{id}'))}"]
            goal = [f"address = {toml_text(at)}"] if whole else named
            saved.asked.sections += ["", "[call.job]", *goal, *_state(polls)]
            saved.answers = [polls[-1].answer]
            return
    where = first.headers.get("location", "")
    polls = [one for one in later if where and where.rpartition("/")[2] in one.url]
    if polls:
        saved.asked.sections += ["", "[call.job]", 'header = "Location"', *_state(polls)]
        saved.answers = [polls[-1].answer]


def _state(polls: Sequence[_Exchange]) -> list[str]:
    """Return where the state of a job stands, and the word with which it is done."""
    last = _parsed(polls[-1].answer)
    for at, value in _ids(last, ()):
        if at.rpartition(".")[2].lower() in ("state", "status", "phase"):
            return [f"state = {toml_text(at)}", f"done = [{toml_text(value)}]"]
    return []


def _parsed(answer: bytes) -> Any:
    try:
        return from_json(answer)
    except NotJSON:
        return None


def _ids(value: Any, path: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """Yield path and text of every short value of an object, two levels deep."""
    for name, inner in value.items() if isinstance(value, dict) else ():
        if isinstance(inner, dict) and len(path) < 2:
            yield from _ids(inner, (*path, name))
        elif isinstance(inner, str | int) and not isinstance(inner, bool) and len(str(inner)) > 2:
            yield ".".join((*path, name)), str(inner)


_KNOWN = ("ratelimit-remaining", "x-ratelimit-remaining")


def _note_announced(asked: Asked, headers: Mapping[str, str]) -> None:
    """Recognise rates that are announced under other names than the usual ones."""
    remaining = next((n for n in headers if "remaining" in n and n not in _KNOWN), "")
    reset = next((n for n in headers if n.endswith(("reset", "reset-after"))), "")
    if remaining and reset:
        asked.limits.append(
            f"announced = {{ remaining = {toml_text(remaining)}, reset = {toml_text(reset)} }}"
        )
