"""What goes into a request, and the finished request."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec import Struct, field

from dotledger.services.redaction import Secrets

__all__ = ["Payload", "Request"]


class Payload(Struct, frozen=True, kw_only=True):
    """One image as it goes out.

    Attributes
    ----------
    data : bytes
        The file's bytes; empty when the service fetches `address` itself.
    media_type : str
        Such as ``image/jpeg``.
    file_name : str
        A harmless name for multipart bodies.
    address : str
        Where the service can fetch the image.
    """

    data: bytes
    media_type: str = "image/jpeg"
    file_name: str = "image.jpg"
    address: str = ""


class Request(Struct, frozen=True, kw_only=True):
    """One HTTP request, complete.

    Attributes
    ----------
    method, address : str
        As sent.
    headers : mapping of str to str
        As sent, with the key where the description puts it.
    body : bytes
        As sent.
    images : int
        How many images it holds.
    on_leaving : callable or None
        Called by a transport when it hands the request to the network; see `Transport`.
    """

    method: str
    address: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    images: int = 1
    on_leaving: Callable[[], None] | None = None

    def masked(self, secrets: Secrets) -> Request:
        """Return the request with every secret covered, however short, for showing."""
        return Request(
            method=self.method,
            address=secrets.text(self.address, least=1),
            headers={name: secrets.text(value, least=1) for name, value in self.headers.items()},
            body=secrets.cover(self.body, least=1),
            images=self.images,
        )

    def __repr__(self) -> str:
        return f"<Request {self.method}, {self.images} images, {len(self.body)} bytes>"
