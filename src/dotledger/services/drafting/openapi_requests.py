"""A draft from a service's OpenAPI document (https://spec.openapis.org/oas/v3.1.0)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import count
from typing import Any
from urllib.parse import urlencode

from msgspec import Struct

from dotledger.errors import ArgumentError, MissingExtra
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.services.drafting.request_samples import Asked, SavedPart, asked_by
from dotledger.services.drafting.saved_requests import Saved

__all__ = ["from_openapi"]

_DEEPEST = 12
_CODED = ("byte", "base64")
"""Formats of text that holds bytes in base64."""
_A_CODED_IMAGE = "A" * 160
"""What stands for an image in base64, where only its schema is known."""


def from_openapi(data: bytes, *, operation: str = "") -> Saved:
    """Return what an OpenAPI document tells of the operation that takes an image.

    Parameters
    ----------
    data : bytes
        JSON or YAML, version 3.
    operation : str, optional
        Its id, or its path; by default the first that takes an image.

    Returns
    -------
    Saved
        The answer is the document's example, or one made up by its schema: its numbers mean
        nothing, and whether boxes are corners or a size is found from their names alone.

    Raises
    ------
    ArgumentError
        If it is no such document, or no operation takes an image.
    MissingExtra
        For YAML without its package.
    """
    try:
        return _saved(_parsed(data), operation)
    except ArgumentError:
        raise
    except _NOT_AS_IT_SHOULD as error:
        raise ArgumentError(
            f"the document is not as OpenAPI documents are ({type(error).__name__}: {error})",
            place="openapi",
            next_step="Check it with a validator for OpenAPI, or draft from an answer instead.",
        ) from error


_NOT_AS_IT_SHOULD = (
    *(TypeError, KeyError, AttributeError, ValueError),
    *(IndexError, RecursionError, OverflowError),
)
"""What values of the wrong type lead to, wherever they stand in a stranger's document."""


def _saved(document: Mapping[str, Any], operation: str) -> Saved:
    api = _Api(document)
    taking = [one for one in api.operations() if one.body is not None]
    chosen = [o for o in taking if operation in ("", o.name, o.path)]
    if not chosen:
        raise ArgumentError(
            "no operation takes an image" + (" under this name" if operation else ""),
            place="openapi",
            got=operation or [f"{o.method} {o.path}" for o in api.operations()][:9],
            allowed=[o.name or o.path for o in taking],
        )
    asked = api.asked(chosen[0])
    if len(chosen) > 1:
        others = ", ".join(o.name or o.path for o in chosen[1:6])
        asked.questions.append(f"other operations take an image too (`operation=`): {others}")
    answers = api.answers(chosen[0])
    return Saved(asked=asked, answers=answers)


def _parsed(data: bytes) -> Mapping[str, Any]:
    try:
        document = from_json(data)
    except NotJSON:
        document = _yaml(data)
    _check_size(document)
    version = str(document.get("openapi", "")) if isinstance(document, dict) else ""
    if not version.startswith("3"):
        raise ArgumentError(
            "not an OpenAPI document of version 3",
            place="openapi",
            got=version or "no 'openapi' in it",
        )
    return document


def _check_size(document: Any) -> None:
    """Refuse what grows when it is followed: aliases of YAML that hold aliases, or themselves."""
    waiting, seen = [document], 0
    while waiting:
        value = waiting.pop()
        seen += 1
        if seen > _MOST_PARTS:
            raise ArgumentError(
                f"the document has more than {_MOST_PARTS:,} parts, or its aliases form a circle",
                place="openapi",
            )
        if isinstance(value, dict):
            waiting += value.values()
        elif isinstance(value, list):
            waiting += value


_MOST_PARTS = 1_000_000
_MOST_MADE = 20_000
"""Values made up for one document: schemas that hold each other have no end."""


def _yaml(data: bytes) -> Any:
    try:
        import yaml
    except ImportError as error:
        raise MissingExtra(
            "an OpenAPI document in YAML needs the package pyyaml",
            next_step="Run: pip install 'dot-ledger[openapi]', or give the document as JSON.",
        ) from error
    try:
        # The loader in C is ten times as quick, and just as safe.
        return yaml.load(data, getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    except (yaml.YAMLError, RecursionError, UnicodeDecodeError) as error:
        reason = str(error).splitlines()[0]
        raise ArgumentError(f"neither JSON nor YAML ({reason})", place="openapi") from error


class _Operation(Struct, kw_only=True):
    method: str
    path: str
    name: str
    facts: Mapping[str, Any]
    body: Mapping[str, Any] | None
    """How an image goes in: keys of `asked_by`; None if none does."""


class _Api:
    """One document; references are followed within it."""

    def __init__(self, document: Mapping[str, Any]) -> None:
        self._document = document
        self._numbers = count(1)
        self._made_so_far = 0

    def operations(self) -> Iterator[_Operation]:
        for path, item in (self._document.get("paths") or {}).items():
            for method, facts in self._of(item).items():
                if method.lower() in ("post", "put", "get") and isinstance(facts, dict):
                    yield _Operation(
                        method=method.upper(),
                        path=str(path),
                        name=str(facts.get("operationId", "")),
                        facts=facts,
                        body=self._body(facts),
                    )

    def _of(self, value: Any, depth: int = 0) -> Mapping[str, Any]:
        """Return an object, its reference within the document followed."""
        if not isinstance(value, dict):
            return {}
        reference = value.get("$ref")
        if not isinstance(reference, str) or depth > _DEEPEST:
            return value
        if not reference.startswith("#/"):
            raise ArgumentError(
                "the document refers to another file",
                place="openapi",
                got=reference,
                next_step="Bundle the files into one document first.",
            )
        found: Any = self._document
        for step in reference[2:].split("/"):
            name = step.replace("~1", "/").replace("~0", "~")
            found = found.get(name) if isinstance(found, dict) else None
        return self._of(found, depth + 1)

    # -- how it is asked ---------------------------------------------------------------------

    def _body(self, facts: Mapping[str, Any]) -> Mapping[str, Any] | None:
        content = self._of(self._of(facts.get("requestBody")).get("content"))
        for kind, media in content.items():
            if (found := self._body_of(kind, media)) is not None:
                return found
        for one in map(self._of, facts.get("parameters", ())):
            if one.get("in") == "query" and _is_address(self._of(one.get("schema")), one):
                return {"query": one["name"]}
        return None

    def _body_of(self, kind: str, media: Any) -> Mapping[str, Any] | None:
        """Return what a body of one media type tells; None if there is no image in it."""
        schema = self._of(self._of(media).get("schema"))
        if kind.startswith("image/") or kind in ("application/octet-stream", "*/*"):
            return {"raw": "raw"}
        if kind == "text/plain" and schema.get("format") in _CODED:
            return {"raw": "base64"}
        if kind == "application/x-www-form-urlencoded" and (parts := self._texts(schema)):
            return {"parts": parts, "urlencoded": True}
        if kind == "multipart/form-data" and (parts := self._parts(schema)):
            return {"parts": parts}
        document = (
            self._example(media) or self._made(schema, image=True) if "json" in kind else None
        )
        return {"document": document} if _has_image(document) else None

    def _texts(self, schema: Mapping[str, Any]) -> list[SavedPart]:
        """Return the fields of a form of text, if one of them is an image or its address."""
        parts, found = [], False
        for name, one in self._of(schema.get("properties")).items():
            inner = self._of(one)
            if inner.get("format") in _CODED:
                parts.append(SavedPart(name=name, text=_A_CODED_IMAGE))
            elif _is_address(inner, {"name": name}):
                parts.append(SavedPart(name=name, text="https://address.of/an.image"))
            elif name in schema.get("required", ()) or "default" in inner:
                parts.append(SavedPart(name=name, text=_text(self._made(inner))))
                continue
            else:
                continue
            found = True
        return parts if found else []

    def _parts(self, schema: Mapping[str, Any]) -> list[SavedPart]:
        parts = []
        for name, one in self._of(schema.get("properties")).items():
            inner = self._of(one)
            if inner.get("format") == "binary" or "contentMediaType" in inner:
                parts.append(SavedPart(name=name, file="image"))
            elif name in schema.get("required", ()) or "default" in inner:
                parts.append(SavedPart(name=name, text=_text(self._made(inner))))
        return parts if any(part.is_image for part in parts) else []

    def asked(self, chosen: _Operation) -> Asked:
        """Return how an operation is asked, as far as the document says."""
        body = dict(chosen.body or {})
        query = [(body.pop("query"), "https://address.of/an.image")] if "query" in body else []
        headers: list[tuple[str, str]] = []
        questions: list[str] = []
        blanks: dict[str, str] = {}
        path = chosen.path
        for raw in (*self._shared(chosen.path), *chosen.facts.get("parameters", ())):
            one = self._of(raw)
            value = _text(self._value_of(one))
            if one.get("in") == "path":
                name = re.sub(r"\W", "_", str(one.get("name")))
                path = path.replace(f"{{{one.get('name')}}}", f"{{{name}}}")
                blanks[name] = ""
                questions.append(f"the path holds {name}: give it: `settings={{{name!r}: VALUE}}`")
            elif not (one.get("required") or "default" in self._of(one.get("schema"))):
                continue
            elif one.get("in") == "query" and one.get("name") not in dict(query):
                query.append((one["name"], value))
            elif one.get("in") == "header":
                headers.append((one["name"], value))
        address = self._address(questions)
        url = f"{address}{path}" + (f"?{urlencode(query)}" if query else "")
        asked = asked_by(chosen.method, url, headers, **body)
        asked.address, asked.path = address, path
        asked.settings |= blanks
        self._key(asked, chosen.facts)
        asked.questions += questions
        return asked

    def _shared(self, path: str) -> Sequence[Any]:
        item = self._of((self._document.get("paths") or {}).get(path))
        return item.get("parameters") or ()

    def _address(self, questions: list[str]) -> str:
        servers = self._document.get("servers") or [{"url": ""}]
        first = self._of(servers[0])
        url = str(first.get("url", ""))
        for name, variable in self._of(first.get("variables")).items():
            url = url.replace(f"{{{name}}}", str(self._of(variable).get("default", "x")))
        if "://" not in url:
            questions.append("where the service is (`address=`): the document does not say")
            return f"https://service.example{url if url.startswith('/') else ''}".rstrip("/")
        if len(servers) > 1:
            questions.append(f"the document names {len(servers)} addresses; the first was taken")
        return url.rstrip("/")

    def _key(self, asked: Asked, facts: Mapping[str, Any]) -> None:
        schemes = self._of(self._of(self._document.get("components")).get("securitySchemes"))
        wanted = facts.get("security", self._document.get("security")) or []
        names = [name for one in wanted for name in self._of(one)]
        scheme = next((self._of(schemes[n]) for n in names if n in schemes), None)
        if scheme is None:
            return
        kind, place = scheme.get("type"), scheme.get("in")
        if kind == "apiKey" and place in ("header", "query"):
            asked.place, asked.name, asked.prefix = str(place), str(scheme.get("name", "")), ""
        elif kind == "http" and scheme.get("scheme", "").lower() in ("bearer", "basic"):
            asked.place, asked.name, asked.prefix = scheme["scheme"].lower(), "", ""
        elif kind == "oauth2" and "clientCredentials" in self._of(scheme.get("flows")):
            flow = self._of(scheme["flows"]["clientCredentials"])
            asked.place, asked.token = "token", str(flow.get("tokenUrl", ""))
            asked.scope = " ".join(self._of(flow.get("scopes")))
        else:
            asked.questions.append(f"the key is given by {kind} in {place or 'a way of its own'}")

    def _value_of(self, parameter: Mapping[str, Any]) -> Any:
        if "example" in parameter:
            return parameter["example"]
        return self._made(self._of(parameter.get("schema")))

    # -- what it answers ---------------------------------------------------------------------

    def answers(self, chosen: _Operation) -> list[bytes]:
        """Return the examples of an operation's good answer, else one made up by its schema."""
        responses = self._of(chosen.facts.get("responses"))
        good = [self._of(one) for status, one in responses.items() if str(status).startswith("2")]
        for response in good or [self._of(responses.get("default"))]:
            for kind, media in self._of(response.get("content")).items():
                if "json" not in kind:
                    continue
                examples = self._of(media).get("examples")
                several = [self._of(one).get("value") for one in self._of(examples).values()]
                found = [one for one in several if one is not None] or [self._example(media)]
                if found[0] is None:
                    schema = self._of(self._of(media).get("schema"))
                    found = [self._made(schema), self._made(schema)]
                return [to_json(one) for one in found if one not in (None, {})]
        return []

    def _example(self, media: Any) -> Any:
        facts = self._of(media)
        if "example" in facts:
            return facts["example"]
        examples = [self._of(one).get("value") for one in self._of(facts.get("examples")).values()]
        schema = self._of(facts.get("schema"))
        return examples[0] if examples else schema.get("example")

    def _made(self, schema: Mapping[str, Any], *, depth: int = 0, image: bool = False) -> Any:
        """Return a value that a schema allows; an image goes as a stand-in that is recognised."""
        for name in ("example", "const", "default"):
            if name in schema:
                return schema[name]
        for name in ("examples", "enum"):
            if isinstance(schema.get(name), list) and schema[name]:
                return schema[name][0]
        self._made_so_far += 1
        if depth > _DEEPEST or self._made_so_far > _MOST_MADE:
            return None
        for name in ("oneOf", "anyOf"):
            if schema.get(name):
                return self._made(self._of(schema[name][0]), depth=depth + 1, image=image)
        if schema.get("allOf"):
            parts = [self._of(one) for one in schema["allOf"]]
            made = [self._made(one, depth=depth + 1, image=image) for one in parts]
            return {k: v for one in made if isinstance(one, dict) for k, v in one.items()}
        return self._by_type(schema, depth, image=image)

    def _by_type(self, schema: Mapping[str, Any], depth: int, *, image: bool) -> Any:
        kind = schema.get("type")
        kind = next((k for k in kind if k != "null"), None) if isinstance(kind, list) else kind
        if kind == "object" or "properties" in schema:
            properties = self._of(schema.get("properties")).items()
            needed = schema.get("required", ())
            return {
                name: self._made(self._of(one), depth=depth + 1, image=image)
                for name, one in properties
                if not image or name in needed or self._goes_along(name, one)
            }
        if kind == "array":
            items = self._of(schema.get("items"))
            least = schema.get("minItems", 0)
            least = max(least if isinstance(least, int) else 0, 1 if image else 2)
            return [self._made(items, depth=depth + 1, image=image) for _ in range(min(least, 8))]
        if kind in ("number", "integer"):
            return self._number(schema, whole=kind == "integer")
        if kind == "boolean":
            return True
        return _stand_in(schema) if image else f"word {next(self._numbers)}"

    def _goes_along(self, name: str, schema: Any) -> bool:
        """Tell whether a part of a question is put in although it need not be."""
        return "default" in self._of(schema) or _is_image(name, self._of(schema))

    def _number(self, schema: Mapping[str, Any], *, whole: bool) -> float:
        """Return a number within the bounds, another one each time."""
        number = next(self._numbers)
        most = schema.get("maximum", schema.get("exclusiveMaximum"))
        if not isinstance(most, int | float) or isinstance(most, bool):
            return number * 10 if whole else number * 10.5
        least = schema.get("minimum", 0)
        share = 0.5 + 0.45 * ((number * 0.618) % 1)
        value = least + (most - least) * share
        return round(value) if whole else round(value, 3)


def _is_image(name: str, schema: Mapping[str, Any]) -> bool:
    words = ("image", "img", "photo", "picture", "content", "data", "file", "url", "uri")
    text = schema.get("type") in (None, "string", "object", "array")
    return text and any(word in name.lower() for word in words)


def _stand_in(schema: Mapping[str, Any]) -> str:
    if schema.get("format") in ("byte", "base64") or schema.get("contentEncoding") == "base64":
        return "<base64>"
    return "https://address.of/an.image" if schema.get("format") in ("uri", "url") else "<text>"


def _is_address(schema: Mapping[str, Any], parameter: Mapping[str, Any]) -> bool:
    return schema.get("format") in ("uri", "url") and _is_image(str(parameter.get("name")), schema)


def _has_image(document: Any) -> bool:
    if isinstance(document, dict):
        named = [_is_image(str(n), {}) for n, one in document.items() if isinstance(one, str)]
        return any(named) or any(map(_has_image, document.values()))
    if isinstance(document, list):
        return any(map(_has_image, document))
    return isinstance(document, str) and re.match(r"<base64>|https?://", document) is not None


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)
