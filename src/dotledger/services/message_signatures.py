"""HTTP Message Signatures with a shared secret, for what we send to a program of the user's.

RFC 9421 with ``hmac-sha256``, over the method, the address, the body's digest (RFC 9530), and the
time. A receiver checks them with any library for that standard.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Mapping

__all__ = ["COVERED", "content_digest", "signature_headers", "signature_of"]

COVERED = ("@method", "@target-uri", "content-digest")
"""What a signature of ours covers, in order."""


def content_digest(body: bytes) -> str:
    """Return the value of ``Content-Digest`` for a body.

    Examples
    --------
    >>> content_digest(b'{"hello": "world"}')  # RFC 9530, B.1
    'sha-256=:X48E9qOokqqrvdts8nOJRJN3OWDUoyWxBf7kbu9DBPE=:'
    """
    return f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"


def signature_of(values: Mapping[str, str], parameters: str, secret: bytes) -> str:
    """Return the signature over some parts of a message (RFC 9421, 2.5 and 3.3.3).

    Parameters
    ----------
    values : mapping of str to str
        Each part that is covered, in order, with its value.
    parameters : str
        What stands behind the list of parts, such as ``;created=1618884473``.
    secret : bytes
        The shared secret.

    Returns
    -------
    str
        Base64, without the colons around it.
    """
    listed = " ".join(f'"{name}"' for name in values)
    lines = [f'"{name}": {value}' for name, value in values.items()]
    base = "\n".join([*lines, f'"@signature-params": ({listed}){parameters}'])
    return base64.b64encode(hmac.digest(secret, base.encode(), "sha256")).decode()


def signature_headers(
    method: str, address: str, body: bytes, secret: bytes, *, created: int
) -> dict[str, str]:
    """Return the headers that sign a request.

    Parameters
    ----------
    created : int
        Seconds since 1970.

    Returns
    -------
    dict of str to str
        ``Content-Digest``, ``Signature-Input`` and ``Signature``.
    """
    digest = content_digest(body)
    parameters = f';created={created};alg="hmac-sha256"'
    values = dict(zip(COVERED, (method, address, digest), strict=True))
    listed = " ".join(f'"{name}"' for name in COVERED)
    return {
        "Content-Digest": digest,
        "Signature-Input": f"sig=({listed}){parameters}",
        "Signature": f"sig=:{signature_of(values, parameters, secret)}:",
    }
