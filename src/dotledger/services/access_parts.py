"""Sections of a description about access: the key, tokens, signing, certificates."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec

from dotledger.reading.answer_paths import check_paths
from dotledger.reading.strict_toml import TomlPart, unknown

__all__ = ["SIGNED_PARTS", "Assertion", "KeyPlace", "Signing", "Tls", "Token"]

_PART = re.compile(r"\{(\w+)\}")


class KeyPlace(TomlPart, frozen=True, kw_only=True):
    """Where the key goes and where it comes from; never the key itself."""

    place: Literal["header", "query", "basic", "bearer", "token", "signed", "none"] = "none"
    name: str = ""
    prefix: str = ""
    sources: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        if self.place in ("header", "query") and not self.name:
            raise ValueError(f"a key that goes into the {self.place} needs a name")
        if self.place not in ("none", "signed") and not self.sources:
            raise ValueError("a key needs sources, such as 'env:MY_SERVICE_KEY'")
        for source in self.sources:
            if source.partition(":")[0] not in ("env", "file", "keyring", "call"):
                raise ValueError(
                    f"{source!r} is not a source; one starts with env:, file:, keyring: or call:"
                )


class Assertion(TomlPart, frozen=True, kw_only=True):
    """A signed statement that a key file lets us make, given in exchange for a token (RFC 7523).

    The key's source is then a JSON file: `key_at` names its private key, in PEM; `{name}` in a
    claim is its value of that name. Times of making and end are added.
    """

    algorithm: Literal["RS256", "ES256"] = "RS256"
    key_at: str = "private_key"
    key_id_at: str = ""
    claims: Mapping[str, str]
    life: Annotated[float, msgspec.Meta(gt=0, le=86_400)] = 3600.0


_TOKEN_PARTS = ("key", "client", "secret", "scope", "assertion")


class Token(TomlPart, frozen=True, kw_only=True):
    """A token with a life of its own, and what it is exchanged for.

    By default OAuth 2.0 client credentials (RFC 6749, section 4.4): the key is ``id:secret``, sent
    as HTTP Basic, or in the form. Any other exchange says its `fields`, in which ``{key}``,
    ``{client}``, ``{secret}``, ``{scope}`` and ``{assertion}`` are filled in, and where the answer
    has the token and its life in seconds. With an assertion, `address_at` may name the address in
    the key file.
    """

    address: str = ""
    address_at: str = ""
    scope: str = ""
    secret_in: Literal["basic", "form"] = "basic"
    renew_before: Annotated[float, msgspec.Meta(ge=0)] = 30.0
    body: Literal["form", "json"] = "form"
    fields: Mapping[str, str] = msgspec.field(default_factory=dict)
    at: str = "access_token"
    life: str = "expires_in"
    assertion: Assertion | None = None

    def __post_init__(self) -> None:
        """Raise ValueError for parts that are not known, or that nothing fills in."""
        check_paths((self.at, "at"), (self.life, "life"))
        if bool(self.address) == bool(self.address_at):
            raise ValueError("a token needs an address, or address_at: its name in the key file")
        if self.address_at and self.assertion is None:
            raise ValueError(
                "address_at is a name in the key file of an assertion, which is missing"
            )
        parts = {part for text in self.fields.values() for part in _PART.findall(text)}
        for part in parts - set(_TOKEN_PARTS):
            raise ValueError(unknown("part of a token's fields", part, _TOKEN_PARTS))
        if ("assertion" in parts) != (self.assertion is not None):
            raise ValueError("an assertion goes with a field that holds {assertion}")
        if self.body == "json" and not self.fields:
            raise ValueError("a token that is asked for in JSON needs fields")


class Tls(TomlPart, frozen=True, kw_only=True):
    """How connections are secured where the system's own way is not enough: PEM files.

    `authorities` are trusted beside whom the system trusts; `certificate` is our own, for a service
    that asks for one, and its key stands in the same file or in `certificate_key`.
    """

    authorities: str = ""
    certificate: str = ""
    certificate_key: str = ""

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        if self.certificate_key and not self.certificate:
            raise ValueError("a certificate_key belongs to a certificate")


_SIGNED_PART = re.compile(r"\{([\w.-]+)\}")
SIGNED_PARTS = (
    "method", "host", "path", "query", "query.sorted", "target", "body", "header", "time", "date",
    "nonce", "key", "client", "secret", "signature",
)  # fmt: skip
"""What a text to be signed may be made of, beside settings."""
_NEVER_SENT = frozenset(("key", "secret"))


class Signing(TomlPart, frozen=True, kw_only=True):
    """How each request is signed: an HMAC (RFC 2104) of a text that is made of its parts.

    `steps` derive the key that signs: each is the HMAC of its text under the key before it.
    """

    text: str
    hash: Literal["sha1", "sha256", "sha384", "sha512"] = "sha256"
    secret: str = "{secret}"
    secret_written: Literal["text", "base64", "hex"] = "text"
    steps: tuple[str, ...] = ()
    written: Literal["hex", "base64", "base64url"] = "hex"
    time: Literal["seconds", "milliseconds", "iso", "compact", "http"] = "seconds"
    headers: Mapping[str, str] = msgspec.field(default_factory=dict)
    query: Mapping[str, str] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        """Raise ValueError for parts that are not known, and for a secret that would be sent."""
        sent = (*self.headers.values(), *self.query.values())
        for text in (*self._texts, *sent):
            for part in _SIGNED_PART.findall(text):
                self._check_part(part)
        if not any("{signature}" in text for text in sent):
            raise ValueError("no header and no query of [connect.signing] holds {signature}")
        if any("{signature}" in text for text in self._texts):
            raise ValueError("{signature} comes of the text, and cannot be part of it")
        for part in (part for text in sent for part in _SIGNED_PART.findall(text)):
            if part in _NEVER_SENT:
                raise ValueError(f"{{{part}}} would send the secret itself: it only signs")

    @property
    def _texts(self) -> tuple[str, ...]:
        return (self.text, self.secret, *self.steps)

    @property
    def settings_used(self) -> list[str]:
        """The names in it that are none of `SIGNED_PARTS`: they must be settings."""
        texts = (*self._texts, *self.headers.values(), *self.query.values())
        found = [part for text in texts for part in _SIGNED_PART.findall(text)]
        return [part for part in found if "." not in part and part not in SIGNED_PARTS]

    @staticmethod
    def _check_part(part: str) -> None:
        name, _, more = part.partition(".")
        if part in ("body", "header") or (name == "body" and not _BODY_PART.fullmatch(part)):
            allowed = "{body.sha256.hex} (or md5, sha1, sha512; or base64), {header.NAME}"
            raise ValueError(f"{{{part}}} is no part of a request; write {allowed}")
        if more and name not in ("body", "header") and part not in SIGNED_PARTS:
            raise ValueError(unknown("part of [connect.signing]", part, SIGNED_PARTS))


_BODY_PART = re.compile(r"body\.(md5|sha1|sha256|sha512)\.(hex|base64)")
