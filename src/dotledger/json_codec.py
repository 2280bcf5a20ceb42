"""JSON read and written in one way: whatever is wrong with a document is one error.

The decoder is msgspec's. What it raises depends on what is wrong, and on how deep the stack is; a
document from outside must not make a difference in that.
"""

from __future__ import annotations

import math
import re
from typing import Any

import msgspec
import numpy as np

__all__ = ["AsData", "NotJSON", "from_json", "to_json"]


class NotJSON(ValueError):
    """A document is not JSON (RFC 8259); the message tells why."""


def from_json(data: bytes | bytearray | memoryview | str) -> Any:
    """Return what a JSON document holds.

    Parameters
    ----------
    data : bytes-like or str
        One whole document in UTF-8, without a byte order mark.

    Returns
    -------
    object
        Whole numbers that fit 64 bits are int, others float. Of a key that occurs twice, the last.

    Raises
    ------
    NotJSON
        If it is empty, ends too soon, is malformed, has bytes that are not UTF-8, is nested deeper
        than 500 lists and objects, or has a number beyond what a float holds.

    Examples
    --------
    >>> from_json(b'{"score": 0.5}')
    {'score': 0.5}
    """
    raw = data if isinstance(data, bytes) else _as_bytes(data)
    if _is_deep(raw):
        raise NotJSON(_TOO_DEEP)
    try:
        found = _decode(data)
    except (msgspec.DecodeError, UnicodeError, RecursionError) as error:
        raise NotJSON(_why(raw, error)) from None
    if _LONG_NUMBER not in raw.translate(_DIGITS):
        return found
    try:
        return _without_long_numbers(found)
    except OverflowError:
        raise NotJSON("number out of range") from None


def _as_bytes(data: bytearray | memoryview | str) -> bytes:
    return data.encode("utf-8", "replace") if isinstance(data, str) else bytes(data)


_DIGITS = bytes(ord("0") if ord("0") <= byte <= ord("9") else byte for byte in range(256))
_LONG_NUMBER = b"0" * 19
"""Whole numbers of fewer digits fit 64 bits, in which everything that follows counts."""


def _without_long_numbers(value: Any) -> Any:
    """Return plain values with whole numbers beyond 64 bits as floats."""
    if isinstance(value, dict):
        return {key: _without_long_numbers(one) for key, one in value.items()}
    if isinstance(value, list):
        return [_without_long_numbers(one) for one in value]
    long = type(value) is int and not -(2**63) <= value < 2**64
    return float(value) if long else value


def to_json(value: Any, *, indent: bool = False, ordered: bool = False) -> bytes:
    r"""Return a value as a JSON document in UTF-8.

    Parameters
    ----------
    value : object
        Of dict, list, tuple, str, int, float, bool, None; also dataclasses, structs and times.
        NaN and infinity become null, NumPy's arrays and numbers plain ones, bytes base64.
    indent : bool, default False
        One value a line, by two spaces.
    ordered : bool, default False
        Keys in order, so that equal values give equal bytes.

    Raises
    ------
    TypeError
        If anything in it has another type.
    UnicodeEncodeError
        If a text holds half of a surrogate pair.

    Examples
    --------
    >>> to_json({"b": 1, "a": [float("nan")]}, ordered=True)
    b'{"a":[null],"b":1}'
    """
    found = (_ordered if ordered else _encode)(value)
    return msgspec.json.format(found, indent=2) if indent else found


def _plain(value: Any) -> Any:
    # NumPy's texts are of a type of their own, which is a str all the same.
    if isinstance(value, str):
        return str(value)
    if hasattr(value, "tolist"):
        return value.tolist()
    raise TypeError(f"JSON has no place for {type(value).__name__}")


_decode = msgspec.json.Decoder().decode
_encode = msgspec.json.Encoder(enc_hook=_plain).encode
_ordered = msgspec.json.Encoder(enc_hook=_plain, order="deterministic").encode


_TOO_DEEP = "nested too deeply"
_DEEPEST = 500
"""How deep the decoder itself goes depends on Python's version and on the stack; what reads the
result must not be surprised by either."""
_ESCAPED = re.compile(rb"\\.", re.DOTALL)
_STEPS = np.zeros(256, dtype=np.int32)
_STEPS[list(b"[{")], _STEPS[list(b"]}")] = 1, -1


def _is_deep(data: bytes) -> bool:
    """Tell whether a document is nested too deeply; one with few brackets is not looked at."""
    if data.count(b"[") + data.count(b"{") <= _DEEPEST:
        return False
    # Brackets in texts are none. A text goes from quote to quote, escaped ones taken out.
    letters = np.frombuffer(_ESCAPED.sub(b"", data) if b"\\" in data else data, dtype=np.uint8)
    in_text = np.cumsum(letters == ord('"'), dtype=np.int32) & 1
    depth = np.cumsum(_STEPS[letters] * (1 - in_text), dtype=np.int32)
    return bool(depth.max(initial=0) > _DEEPEST)


def _why(data: bytes, error: Exception) -> str:
    if isinstance(error, RecursionError):
        return _TOO_DEEP
    if isinstance(error, UnicodeError):
        return "its text is not UTF-8"
    if not data.strip():
        return "it is empty"
    return str(error).removeprefix("JSON is malformed: ")


class AsData:
    """A record that gives itself as plain data; for classes of msgspec and data classes."""

    def to_dict(self) -> dict[str, Any]:
        """Return all fields as plain data; undefined numbers are None."""
        found: dict[str, Any] = _defined(msgspec.to_builtins(self))
        return found

    def to_json(self) -> str:
        """Return `to_dict` as JSON text."""
        return to_json(self.to_dict(), indent=True).decode()


def _defined(value: Any) -> Any:
    """Return plain data with None instead of numbers that are NaN or infinite."""
    if isinstance(value, dict):
        return {key: _defined(one) for key, one in value.items()}
    if isinstance(value, list):
        return [_defined(one) for one in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
