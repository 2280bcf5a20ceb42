"""XML read safely: nothing outside a document is ever followed, and nothing inside it expands."""

from __future__ import annotations

import re
from typing import Any

__all__ = ["plain_values", "xml_root"]

_XML = "{http://www.w3.org/XML/1998/namespace}"


def xml_root(data: bytes | str) -> Any:
    """Return the root element of an XML document, for lxml.

    Parameters
    ----------
    data : bytes or str
        A whole document. Its own encoding is what its first line says.

    Raises
    ------
    ValueError
        If it is not XML, is nested deeper than 255 elements, or declares entities of its own.
    """
    from lxml import etree

    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    raw = data.encode("utf-8", "surrogatepass") if isinstance(data, str) else data
    _check_names(raw)
    try:
        root = etree.fromstring(raw, parser)
    except etree.XMLSyntaxError as error:
        raise ValueError(str(error)) from None
    document = root.getroottree().docinfo.internalDTD
    if document is not None and any(True for _ in document.iterentities()):
        raise ValueError("it declares entities of its own")
    return root


_MOST_NAMESPACES = 2_000
_MOST_ATTRIBUTES = 1_000
_START = re.compile(rb"<[^<>]*>")


# Every element knows all namespaces that are declared around it, and a parser compares each
# attribute of an element with all others: both take time by the square of their number.
def _check_names(raw: bytes) -> None:
    """Refuse more namespaces, or attributes of one element, than any real document has."""
    if raw.count(b"xmlns") > _MOST_NAMESPACES:
        raise ValueError(f"it declares more than {_MOST_NAMESPACES:,} namespaces")
    if raw.count(b"=") <= _MOST_ATTRIBUTES:
        return
    if any(part[0].count(b"=") > _MOST_ATTRIBUTES for part in _START.finditer(raw)):
        raise ValueError(f"an element has more than {_MOST_ATTRIBUTES:,} attributes")


def plain_values(root: Any, lists: tuple[str, ...] = ()) -> dict[str, Any]:
    """Return an element as plain values, as JSON would hold them.

    Parameters
    ----------
    root : lxml.etree.Element
        From `xml_root`.
    lists : tuple of str
        Elements that always become lists; others do where they stand several times.

    Returns
    -------
    dict of str to object
        The element's name with what it holds: None for nothing, text, or a dict in which an
        attribute ``a`` is ``_a``, text beside attributes or elements ``_text``. Names have the
        prefixes that the document gives them.
    """
    name, value = _name(root), _value(root, frozenset(lists))
    return {name: [value] if name in lists else value}


def _value(element: Any, lists: frozenset[str]) -> Any:
    found: dict[str, Any] = {f"_{name}": text for name, text in _attributes(element)}
    pieces = [element.text or ""]
    for child in element:
        pieces.append(child.tail or "")
        name, value = _name(child), _value(child, lists)
        if name not in found:
            found[name] = [value] if name in lists else value
        elif isinstance(found[name], list):
            found[name].append(value)
        else:
            found[name] = [found[name], value]
    text = "".join(pieces).strip()
    if not found:
        return text or None
    return {**found, "_text": text} if text else found


def _attributes(element: Any) -> list[tuple[str, str]]:
    """Return attributes as they are written, those that declare namespaces first."""
    parent, here = element.getparent(), element.nsmap  # made anew each time it is asked for
    known = {} if parent is None else parent.nsmap
    own = {p: space for p, space in here.items() if known.get(p) != space}
    spaces = [(f"xmlns:{prefix}" if prefix else "xmlns", space) for prefix, space in own.items()]
    prefixes = {space: prefix for prefix, space in reversed(here.items()) if prefix}
    return [*spaces, *((_attribute_name(prefixes, n), v) for n, v in element.attrib.items())]


def _attribute_name(prefixes: dict[str, str], name: str) -> str:
    if name.startswith(_XML):
        return f"xml:{name.removeprefix(_XML)}"
    space, _, local = name.rpartition("}")
    if not space:
        return name
    prefix = prefixes.get(space[1:], "")
    return f"{prefix}:{local}" if prefix else local


def _name(element: Any) -> str:
    local: str = element.tag.rpartition("}")[2]
    return f"{element.prefix}:{local}" if element.prefix else local
