"""Annotations in a IIIF manifest: Web Annotations about its canvases, brought to the images."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.name_codes import Coded
from dotledger.formats.annotations.annotation_collecting import CollectedRows, Loaded, report_of
from dotledger.formats.annotations.web_annotations import read_items
from dotledger.images.iiif_manifests import Canvas, canvases_of
from dotledger.images.image_gathering import shown_address

__all__ = ["read_manifest"]


def read_manifest(data: Any, place: Path, *, kind: str = "object") -> Loaded:
    """Read the annotations that a manifest holds.

    Parameters
    ----------
    place : Path
        Where it stands, for the report.
    kind : str, default "object"
        Of annotations with a place that do not say; without a place it is ``label``.

    Returns
    -------
    Loaded
        Images are called by their addresses, as `gather` calls those of the manifest. A canvas of
        which the manifest has no annotation page is not covered; one whose page lies elsewhere
        is covered for no kind, and is listed.
    """
    gathered = CollectedRows()
    canvases = {canvas.id: canvas for canvas in canvases_of(data) if canvas.address}
    for canvas in canvases.values():
        if canvas.pages is not None:
            gathered.cover(canvas.id, width=canvas.width or None, height=canvas.height or None)
    items = []
    for canvas in canvases.values():
        for page in canvas.pages or ():
            if isinstance(page.get("items"), list):
                items += [one for one in page["items"] if isinstance(one, dict)]
            else:
                gathered.refuse(canvas.id, "its annotations lie elsewhere", page.get("id", ""))
    read_items([one for one in items if "target" in one], gathered, kind)
    loaded = gathered.loaded(str(place))
    names = {id: shown_address(canvas.address) for id, canvas in canvases.items()}
    table = _on_images(loaded.annotations, canvases, names)
    refused = [(names.get(id, id), reason, value) for id, reason, value in loaded.report.refused]
    report = report_of(table, str(place), clipped=loaded.report.clipped, refused=refused)
    return Loaded(annotations=table, report=report)


def _on_images(
    table: Annotations, canvases: Mapping[str, Canvas], names: Mapping[str, str]
) -> Annotations:
    """Return annotations of canvases as annotations of the images painted on them."""
    factors = np.array([_factors(canvases.get(id)) for id in table.image.names]).reshape(-1, 2)
    each = factors[table.image.codes]
    details = None
    if table.details is not None:
        details = tuple(
            None if one is None else _scaled(one, *factor)
            for one, factor in zip(table.details, each.tolist(), strict=True)
        )
    images = {
        names.get(id, id): {
            "width": canvases[id].image_width,
            "height": canvases[id].image_height,
        }
        for id in table.images
        if id in canvases
    }
    return replace(
        table,
        image=Coded(table.image.codes, tuple(names.get(id, id) for id in table.image.names)),
        box=table.box * np.tile(each, 2),
        details=details,
        images=images,
    )


def _factors(canvas: Canvas | None) -> tuple[float, float]:
    if canvas is None or not canvas.width or not canvas.height:
        return 1.0, 1.0
    return canvas.image_width / canvas.width, canvas.image_height / canvas.height


def _scaled(details: Details, across: float, down: float) -> Details:
    polygon = tuple((x * across, y * down) for x, y in details.polygon)
    return details._replace(polygon=polygon)
