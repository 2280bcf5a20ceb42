"""The calling part of a draft, from one known request; the key is never copied."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from msgspec import Struct, field

from dotledger.services.body_forms import BODY_FORMS
from dotledger.services.drafting.box_drafting import toml_text
from dotledger.services.drafting.request_blanks import Blanks

__all__ = ["Asked", "SavedPart", "asked_by", "call_toml", "connect_toml", "inline_toml"]


class SavedPart(Struct, frozen=True, kw_only=True):
    """One part of a form: text, or a file where `file` or an image's type says so."""

    name: str
    text: str = ""
    file: str = ""
    media_type: str = ""

    @property
    def is_image(self) -> bool:
        """Whether it is the image: a file, if nothing says that it is of another sort."""
        return self.media_type.startswith("image/") or (bool(self.file) and not self.media_type)


class Asked(Struct, kw_only=True):
    """What is known of how a service is asked; empty where nothing is.

    Attributes
    ----------
    address, path, method : str
        Where a call goes.
    place, name, prefix : str
        Of the key; see `dotledger.services.service_description.KeyPlace`.
    token, scope : str
        Where a short-lived token comes from.
    body, image_field : str
        How the image goes.
    query, headers, form, fields, each : dict
        What else goes along, as in a description.
    settings : dict of str to str
        Blanks: values that were not copied, under the names by which they are given.
    sections : list of str
        Further sections of the call, as TOML.
    limits : list of str
        Lines of ``[limits]``.
    questions : list of str
        What could not be told, or was not copied.
    """

    address: str = ""
    path: str = ""
    method: str = "POST"
    place: str = ""
    name: str = ""
    prefix: str = ""
    token: str = ""
    scope: str = ""
    body: str = ""
    image_field: str = ""
    query: dict[str, str] = field(default_factory=dict)
    headers: dict[str, str] = field(default_factory=dict)
    form: dict[str, str] = field(default_factory=dict)
    fields: dict[str, Any] = field(default_factory=dict)
    each: dict[str, Any] = field(default_factory=dict)
    settings: dict[str, str] = field(default_factory=dict)
    sections: list[str] = field(default_factory=list)
    limits: list[str] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)


_SECRET = re.compile(r"key|token|secret|auth|signature|password|credential|session", re.IGNORECASE)
_LOOKS_SECRET = re.compile(r"(?=.*\d)(?=.*[A-Za-z])[\w+/=.~-]{24,}$")
_NOISE = re.compile(
    r"(accept.*|user-agent|content-length|content-type|host|connection|cookie|origin|referer|"
    r"cache-control|pragma|te|dnt|priority|upgrade.*|sec-.*|:.*|traceparent|x-forwarded-.*)$",
    re.IGNORECASE,
)
_BASE64 = re.compile(r"[A-Za-z0-9+/_-]{120,}={0,2}$")
_STANDS_FOR = re.compile(r"@|\$|<.*>|\{.*\}|\.\.\.|…|base64", re.IGNORECASE)
_ELSEWHERE = re.compile(r"[a-z][a-z0-9+]{1,10}://\S+$", re.IGNORECASE)


def asked_by(
    method: str,
    url: str,
    headers: Sequence[tuple[str, str]],
    *,
    document: Any = None,
    parts: Sequence[SavedPart] = (),
    urlencoded: bool = False,
    raw: str = "",
) -> Asked:
    """Return what one request tells.

    Parameters
    ----------
    method : str
        Such as ``POST``.
    headers : sequence of (str, str)
        As sent; what every program sends is left out, and so are cookies.
    document : object, optional
        The body, if it is JSON.
    parts : sequence of SavedPart
        The body, if it is a form.
    urlencoded : bool
        The form is one line of text (``application/x-www-form-urlencoded``).
    raw : {"", "raw", "base64"}
        The body is the image and nothing else: its bytes, or those in base64.

    Returns
    -------
    Asked
        The key's place, never the key: nor anything else that looks like a secret.
    """
    split = urlsplit(url)
    asked = Asked(
        address=f"{split.scheme}://{split.netloc.rpartition('@')[2]}",
        path=split.path or "/",
        method=method if method in ("POST", "PUT", "GET") else "POST",
    )
    for name, value in headers:
        _take_header(asked, name, value)
    for name, value in parse_qsl(split.query, keep_blank_values=True):
        _take_query(asked, name, value)
    if raw:
        asked.body = raw
    elif parts:
        _take_parts(asked, parts, urlencoded=urlencoded)
    elif document is not None:
        _take_document(asked, document)
    return _with_blanks(asked)


def _with_blanks(asked: Asked) -> Asked:
    """Put a blank wherever a value is not needed to understand the request."""
    blanks = Blanks()
    asked.path = blanks.path(asked.path)
    for part in ("query", "headers", "form", "fields", "each"):
        setattr(asked, part, blanks.mapping(getattr(asked, part)))
    asked.settings = blanks.settings
    asked.questions += blanks.questions
    return asked


def _take_header(asked: Asked, name: str, value: str) -> None:
    if name.casefold() == "authorization":
        scheme, _, rest = value.partition(" ")
        known = {"bearer": "bearer", "basic": "basic"}.get(scheme.casefold())
        prefix = f"{scheme} " if rest else ""
        _take_key(asked, known or "header", "" if known else name, "" if known else prefix)
    elif _NOISE.match(name):
        return
    elif _is_secret(name, value):
        _take_key(asked, "header", name, "")
    else:
        asked.headers[name] = value


def _take_query(asked: Asked, name: str, value: str) -> None:
    if _is_secret(name, value):
        _take_key(asked, "query", name, "")
    elif _ELSEWHERE.match(value):
        asked.body, asked.image_field = "address", name
    else:
        asked.query[name] = value


def _is_secret(name: str, value: str) -> bool:
    return bool(_SECRET.search(name) or _LOOKS_SECRET.match(value))


def _take_key(asked: Asked, place: str, name: str, prefix: str) -> None:
    """Note where the key goes; a second secret has no place in a description."""
    if asked.place:
        asked.questions.append(
            f"{name or place} looks like a second secret; it was not copied. If the service needs "
            "it to sign requests, write the rule in [connect.signing]"
        )
        return
    asked.place, asked.name, asked.prefix = place, name, prefix
    asked.questions.append(
        f"the key itself was not copied ({name or place}): give it by the sources of [connect.key]"
    )


def _take_parts(asked: Asked, parts: Sequence[SavedPart], *, urlencoded: bool) -> None:
    """Find the image in a form: a file, or text that is one or leads to one."""
    asked.body = "multipart"
    image = _image_part(parts, urlencoded=urlencoded)
    if image is not None:
        asked.image_field = image.name
        if not image.is_image:
            elsewhere = _ELSEWHERE.match(image.text) is not None
            asked.body = _TEXT_FORMS[urlencoded, elsewhere]
    asked.form |= {part.name: part.text for part in parts if part.text and part is not image}
    if not asked.image_field and urlencoded:
        asked.body = "form"
        _take_stand_in(asked)
    if not asked.image_field:
        asked.questions.append("which field of the form holds the image (image_field)")
        asked.image_field = "image"


def _image_part(parts: Sequence[SavedPart], *, urlencoded: bool) -> SavedPart | None:
    """Return the part of a form that is the image: a file, or else text; best one named so."""
    files = [part for part in parts if part.is_image]
    texts = [
        part
        for part in parts
        if _ELSEWHERE.match(part.text) or (urlencoded and _BASE64.match(part.text))
    ]
    return next(iter(files or sorted(texts, key=lambda part: not _is_image_name(part.name))), None)


_TEXT_FORMS = {
    (False, True): "multipart-address",
    (True, True): "form-address",
    (True, False): "form",
}
"""The body by whether the form is one line of text, and whether it holds an address."""


def _take_stand_in(asked: Asked) -> None:
    """Take the field of a form whose value stands for an image, such as ``$IMAGE``."""
    likely = [n for n, v in asked.form.items() if _STANDS_FOR.search(v) and _is_image_name(n)]
    if likely:
        asked.image_field = likely[0]
        del asked.form[likely[0]]


def _is_image_name(name: str) -> bool:
    return any(word in name.lower() for word in _IMAGE_WORDS)


def _take_document(asked: Asked, document: Any) -> None:
    """Find the image in a JSON body; what stands next to it goes along as it is."""
    if not isinstance(document, dict):
        asked.questions.append("the body is JSON, but no object: write fields by hand")
        return
    at = _image_at(document, ())
    if at is None and (stored := _stored_at(document, ())):
        asked.body = "address"
        asked.fields = document
        for place, template in stored.items():
            asked.fields = _replaced(asked.fields, place, template)
        return
    if at is None:
        asked.questions.append("where the image goes in the body (image_field)")
        asked.body, asked.image_field = "json", "image"
        asked.fields = document
        return
    value = _at(document, at)
    asked.body = "address" if _ELSEWHERE.match(value) else "json"
    if value.startswith("data:"):
        template = "data:{image.type};base64,{image}"
        asked.fields = _replaced(document, at, template)
        return
    rest = document
    lists = [place for place, step in enumerate(at) if isinstance(step, int)]
    if lists:
        _take_entry(asked, rest, at, lists[0])
    else:
        asked.image_field = ".".join(map(str, at))
        asked.fields = _pruned(rest, at)


def _take_entry(asked: Asked, rest: Any, at: tuple[str | int, ...], place: int) -> None:
    """Make the entry of a list, in which the image stands, the pattern for each image."""
    asked.image_field = ".".join(map(str, at[:place]))
    entry = _at(rest, at[: place + 1])
    inner = at[place + 1 :]
    if not isinstance(entry, dict) or any(isinstance(step, int) for step in inner):
        asked.image_field, asked.fields = "", _replaced(rest, at, "{image}")
        return
    asked.each = _with_image(entry, inner)
    asked.fields = _pruned(rest, at[:place])


def _with_image(entry: Mapping[str, Any], at: Sequence[str | int]) -> dict[str, Any]:
    name, *deeper = at
    inner = _with_image(entry[str(name)], deeper) if deeper else "{image}"
    return {**entry, str(name): inner}


def _replaced(value: Any, at: Sequence[str | int], template: str) -> Any:
    """Return a document with a template in the place of what stands at a path."""
    if not at:
        return template
    step, *deeper = at
    if isinstance(value, list):
        return [_replaced(v, deeper, template) if i == step else v for i, v in enumerate(value)]
    return {n: _replaced(v, deeper, template) if n == step else v for n, v in value.items()}


_BUCKETS = ("bucket", "container")
_STORED_NAMES = ("name", "key", "object", "blob", "path")


def _stored_at(value: Any, path: tuple[str | int, ...]) -> dict[tuple[str | int, ...], str]:
    """Return where a bucket and the name of an image in it stand, with what goes there."""
    if isinstance(value, dict):
        lower = {str(name).casefold(): name for name in value}
        bucket = next((lower[word] for word in _BUCKETS if word in lower), None)
        named = next((lower[word] for word in _STORED_NAMES if word in lower), None)
        if bucket is not None and named is not None:
            return {(*path, bucket): "{image.bucket}", (*path, named): "{image.name}"}
    inner: Iterable[tuple[str | int, Any]] = value.items() if isinstance(value, dict) else ()
    inner = enumerate(value) if isinstance(value, list) else inner
    return next((found for n, v in inner if (found := _stored_at(v, (*path, n)))), {})


def _image_at(value: Any, path: tuple[str | int, ...]) -> tuple[str | int, ...] | None:
    """Return the path of the text that is, or stands for, the image."""
    found: list[tuple[int, tuple[str | int, ...]]] = []
    for at, text in _texts(value, path):
        likely = 4 * bool(_BASE64.match(text) or text.startswith("data:image/"))
        likely += 2 * bool(_ELSEWHERE.match(text)) + bool(_STANDS_FOR.search(text))
        likely += bool(likely) and _is_image_name(str(at[-1]))
        found += [(likely, at)] if likely else []
    return max(found, key=lambda one: one[0])[1] if found else None


_IMAGE_WORDS = ("image", "img", "photo", "picture", "content", "data", "file", "bytes", "url")


def _texts(value: Any, path: tuple[str | int, ...]) -> Iterable[tuple[tuple[str | int, ...], str]]:
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts(inner, (*path, name))
    elif isinstance(value, list):
        for place, inner in enumerate(value):
            yield from _texts(inner, (*path, place))


def _at(value: Any, path: Sequence[str | int]) -> Any:
    for step in path:
        value = value[step]
    return value


def _pruned(value: Any, at: Sequence[str | int]) -> Any:
    """Return a document without what stands at a path."""
    name, *deeper = at
    kept = {key: inner for key, inner in value.items() if key != name}
    if deeper and (inner := _pruned(value[name], deeper)):
        kept[name] = inner
    return kept


def connect_toml(asked: Asked, name: str, address: str) -> str:
    """Return the ``[connect]`` sections of a draft.

    Parameters
    ----------
    name : str
        Of the service; the key is looked for under it.
    """
    lines = ["[connect]", f"address = {toml_text(asked.address or address)}"]
    if (asked.address or address).startswith("http://"):
        lines.append("plain_http = true  # not encrypted: whoever listens reads key and images")
    if asked.settings:
        lines.append(f"settings = {inline_toml(asked.settings)}  # blanks: not copied")
    lines += ["", "[connect.key]"]
    if not asked.place:
        lines.append('place = "none"  # header, query, basic, bearer, token; with name and sources')
        return "\n".join(lines)
    lines.append(f"place = {toml_text(asked.place)}")
    lines += [f"name = {toml_text(asked.name)}"] if asked.name else []
    lines += [f"prefix = {toml_text(asked.prefix)}"] if asked.prefix else []
    variable = re.sub(r"\W", "_", name).upper()
    lines.append(f'sources = ["env:{variable}_KEY"]')
    if asked.token:
        lines += ["", "[connect.token]", f"address = {toml_text(asked.token)}"]
        lines += [f"scope = {toml_text(asked.scope)}"] if asked.scope else []
    return "\n".join(lines)


def call_toml(asked: Asked, kinds: str, *, several: str = "") -> str:
    """Return the ``[[call]]`` section of a draft.

    Parameters
    ----------
    several : str
        Lines about several images in one call, where the answers show that.

    Returns
    -------
    str
        TOML, with its further sections and ``[limits]``.
    """
    lines = ["[[call]]", 'name = "look"', f"kinds = [{kinds}]"]
    lines.append(f"path = {toml_text(asked.path or '/')}")
    lines += [f"method = {toml_text(asked.method)}"] if asked.method != "POST" else []
    if several and not asked.body:
        lines.append(several.rstrip("\n"))
    elif asked.body:
        lines.append(f"body = {toml_text(asked.body)}")
        lines += [f"image_field = {toml_text(asked.image_field)}"] if asked.image_field else []
        lines += [f"each = {inline_toml(asked.each)}"] if asked.each else []
    else:
        lines.append(
            f'body = "raw"  # or {", ".join(name for name in BODY_FORMS if name != "raw")}'
        )
    for key in ("query", "headers", "form", "fields"):
        value = getattr(asked, key)
        lines += [f"{key} = {inline_toml(value)}"] if value else []
    text = "\n".join([*lines, *asked.sections])
    return "\n".join([text, "", "[limits]", *asked.limits]) if asked.limits else text


def inline_toml(value: Any) -> str:
    """Return a value as TOML in one line.

    Returns
    -------
    str
        Nulls are left out: TOML has none.
    """
    if isinstance(value, Mapping):
        inner = ", ".join(
            f"{_key(name)} = {inline_toml(v)}" for name, v in value.items() if v is not None
        )
        return f"{{ {inner} }}"
    if isinstance(value, list):
        return "[" + ", ".join(map(inline_toml, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    return toml_text(value) if isinstance(value, str) else str(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else toml_text(name)
