"""What the commands can do, from Python: calls that put several rooms together.

Paths are taken wherever tables, ledgers and descriptions are.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dotledger.api.inputs import annotations_given, findings_given, threshold_given
from dotledger.core.measurement import measure as core_measure
from dotledger.core.measurement.measure_arguments import Pairing
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.pairing.label_hierarchy import Broader
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from dotledger.api.rereading import Reread
    from dotledger.core.questions.box_conventions import Fit
    from dotledger.core.tables.label_name_mapping import NameMap
    from dotledger.ledger.ledger_access import Ledger
    from dotledger.sending.calls.http_transport import Transport
    from dotledger.sending.calls.local_functions import Look
    from dotledger.sending.cost_forecast import Forecast
    from dotledger.sending.trial_call import Trial
    from dotledger.services.drafting import Draft
    from dotledger.services.redaction import Key
    from dotledger.services.service_description import Description

__all__ = [
    "check_conventions",
    "draft_description",
    "forecast",
    "measure",
    "reread",
    "try_call",
]

_MEASURE = "measure(findings, annotations)"

PathLike = str | os.PathLike[str]


def measure(
    findings: Findings | PathLike | Any,
    annotations: Annotations | PathLike | Any,
    *,
    overlap: float | Sequence[float] = 0.5,
    threshold: Threshold | Sequence[float] | PathLike = None,
    kinds: Iterable[str] | None = None,
    count_unanswered: bool = False,
    pairing: Pairing = "confidence",
    broader: Broader | None = None,
    credit_related: bool = False,
    floor: float | None = None,
    words: Mapping[str, float] | None = None,
    tolerances: Mapping[str, float] | None = None,
    draws: int = 1000,
    seed: int = 0,
) -> Measure:
    """Compare findings with annotations.

    Kinds with boxes are paired within image and label by falling confidence at the required
    overlap; labels and unsafe content are judged by presence in the image.

    Parameters
    ----------
    findings, annotations : table, dataframe or path
        `Findings` and `Annotations`, any dataframe with their columns, or a file: see
        `read_findings` and `read_annotations`.
    overlap : float or sequence of float, default 0.5
        Required overlap (IoU), above 0, up to 1; the first is the one shown.
    threshold : float, str, mapping or sequence of float, optional
        Leave out findings below it: a number from 0 to 1, a word of the service's own scale, or
        one of these by kind, label or ``kind:label``; chosen thresholds, or their file. Several
        numbers are judged each. Below the service's floor it is refused.
    kinds : iterable of str, optional
        By default those that the annotations hold.
    count_unanswered : bool, default False
        Count annotations of images without an answer as missed.
    pairing : {"confidence", "total-overlap"}
        By falling confidence, or one-to-one with the greatest total overlap.
    broader : mapping of str to iterable of str, optional
        Broader labels of each label.
    credit_related : bool, default False
        Count a broader or narrower label in the right place as right.
    floor : float, optional
        The lowest confidence that the service gives; by default what the findings know.
    words : mapping of str to float, optional
        Words that a threshold may be given in; by default what the findings know.
    tolerances : mapping of str to float, optional
        How far off a number among the details may be.
    draws, seed : int
        For the 95 % intervals, over images; none with 0 draws.

    Returns
    -------
    Measure
        Undefined measures are NaN, and None in its `to_dict`: never 0 or 1.

    Raises
    ------
    ArgumentError
        If an argument is out of range, or the two tables are in each other's place.
    TableError
        If a file or frame breaks the common shape.
    ScopeError
        If both tables have images and none in common.

    Examples
    --------
    >>> import pandas as pd
    >>> where = {"image": ["a.jpg"], "kind": ["object"], "label": ["lantern"],
    ...          "x0": [0], "y0": [0], "x1": [10], "y1": [10]}
    >>> result = measure(pd.DataFrame({**where, "confidence": [0.9]}), pd.DataFrame(where))
    >>> result.kinds["object"].pooled.recall
    1.0
    """
    return core_measure.measure(
        findings_given(findings, _MEASURE),
        annotations_given(annotations, _MEASURE),
        overlap=overlap,
        threshold=threshold_given(threshold),
        kinds=kinds,
        count_unanswered=count_unanswered,
        pairing=pairing,
        broader=broader,
        credit_related=credit_related,
        floor=floor,
        words=words,
        tolerances=tolerances,
        draws=draws,
        seed=seed,
    )


def _described(service: Description | PathLike) -> Description:
    from dotledger.services.service_description import Description, read_description

    return service if isinstance(service, Description) else read_description(service)


def forecast(
    images: Any,
    service: Description | PathLike,
    *,
    ledger: Ledger | PathLike | None = None,
    settings: Mapping[str, str] | None = None,
    kinds: str | Iterable[str] | None = None,
    month: str | None = None,
) -> Forecast:
    """Estimate calls, time and cost of sending images; nothing is sent and no key is read.

    Parameters
    ----------
    images, service, settings, kinds
        As `send` takes them.
    ledger : Ledger or path, optional
        What it holds already is not counted; one that is not there holds nothing.
    month : str, optional
        Whose quota counts, such as ``2026-11``; by default this month (UTC).

    Returns
    -------
    Forecast
        Counts of images and calls, bytes, seconds and money.

    Raises
    ------
    DescriptionError, GatherError, ArgumentError
        As `send` does before it sends.

    Examples
    --------
    >>> from dotledger.standins.evening_demo import description_text, parse_description
    >>> flint = parse_description(description_text("flint"))
    >>> forecast({"a.jpg": b"no image"}, flint).refused
    1
    """
    from dotledger.images.image_gathering import Gathered, gather
    from dotledger.ledger.ledger_access import opened_ledger
    from dotledger.sending.cost_forecast import forecast as estimate
    from dotledger.sending.policies.send_plan import make_plan

    gathered = images if isinstance(images, Gathered) else gather(images)
    plan = make_plan(_described(service).with_settings(settings or {}), gathered, kinds=kinds)
    this = month or time.strftime("%Y-%m", time.gmtime())
    text = os.fspath(ledger) if isinstance(ledger, str | os.PathLike) else ""
    there = ledger is not None and (not text or "://" in text or Path(text).exists())
    with opened_ledger(ledger) if there else nullcontext() as opened:
        return estimate(plan, opened, month=this)


def try_call(
    image: bytes | PathLike,
    service: Description | PathLike,
    *,
    call: str | None = None,
    settings: Mapping[str, str] | None = None,
    kinds: str | Iterable[str] | None = None,
    key: str | Key | Callable[[], str] | None = None,
    transport: Transport | Look | None = None,
    allow_code: bool = False,
    dry: bool = False,
) -> Trial:
    """Make one call with one image and take it apart; never raises for what the call does.

    Parameters
    ----------
    image : bytes, path or address
        One image. A service that fetches images itself is sent the address unchanged.
    service, settings, kinds, key, transport, allow_code
        As `send` takes them.
    call : str, optional
        Which of the described calls; by default the first.
    dry : bool, default False
        Only show what would be sent: no key is read and no code is run.

    Returns
    -------
    Trial
        What was sent (the key covered), what came back, how it is read, and next steps.

    Raises
    ------
    ImageError, OSError
        If the image cannot be read.
    DescriptionError, ArgumentError
        If the description or an argument is wrong.

    Examples
    --------
    >>> from dotledger.standins.evening_demo import description_text, parse_description
    >>> from dotledger.standins.demo_scenes import RECIPES, draw_scene
    >>> flint = parse_description(description_text("flint"))
    >>> try_call(draw_scene(RECIPES[0]).data, flint, dry=True).well
    True
    """
    from dotledger.images.image_gathering import Gathered, gather
    from dotledger.sending import trial_call as trial
    from dotledger.sending.policies.send_plan import make_plan

    described = _described(service).with_settings(settings or {})
    plan = make_plan(described, Gathered(items=(), problems=(), source=""), kinds=kinds)
    address = image if isinstance(image, str) and "://" in image else ""
    if address:
        data = gather(address).items[0].read()
    else:
        data = image if isinstance(image, bytes) else Path(image).read_bytes()
    return trial.try_call(
        plan,
        data,
        address=address,
        call=call,
        key=key,
        transport=transport,
        allow_code=allow_code,
        dry=dry,
    )


def reread(
    ledger: Ledger | PathLike,
    service: Description | PathLike | None = None,
    *,
    batch: int | None = None,
    names: NameMap | PathLike | None = None,
) -> Reread:
    """Read stored answers again by an edited description or mapping; nothing is sent.

    Parameters
    ----------
    ledger : Ledger or path
        A new reading is written next to the old ones, unless nothing changes.
    service : Description or path, optional
        The edited description; by default the one kept with the batch.
    batch : int, optional
        By default the newest of the service, or of all.
    names : NameMap or path, optional
        Label names to use instead.

    Returns
    -------
    Reread
        How many findings are unchanged, and every one that is gone or new.

    Raises
    ------
    LedgerError
        If there is no such ledger or batch, or it cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> again = dotledger.reread("photos.ledger")
    >>> again.answers > 30, len(again.differences)
    (True, 0)
    """
    from dotledger.api import rereading
    from dotledger.core.tables.label_name_mapping import NameMap
    from dotledger.formats.label_name_files import read_names
    from dotledger.ledger.batch_queries import find_batch
    from dotledger.ledger.ledger_access import opened_ledger
    from dotledger.services.service_description import stored_description

    edited = None if service is None else _described(service)
    mapping = names if names is None or isinstance(names, NameMap) else read_names(Path(names))
    with opened_ledger(ledger, write=True) as opened:
        wanted = edited.service if edited and batch is None else None
        found = find_batch(opened, batch=batch, service=wanted)
        used = edited or stored_description(found.description)
        return rereading.reread(
            opened, found, used, names=mapping, about="from Python", now=time.time()
        )


def draft_description(
    answers: Sequence[Any] = (),
    *,
    sizes: Sequence[tuple[float, float]] = (),
    words: Sequence[str] = (),
    curl: str | None = None,
    har: bytes | None = None,
    openapi: bytes | None = None,
    operation: str = "",
) -> Draft:
    """Propose a description from sample answers, and from what is known of the request.

    Parameters
    ----------
    answers : sequence
        Raw answers: bytes (JSON, lines of JSON, XML), or JSON parsed already; the more, the surer.
        Without any, those of the HAR file or the OpenAPI document; with a line for curl alone the
        draft has no rules, and is enough for a first call.
    sizes : sequence of (width, height), optional
        Of the images they answer, in pixels.
    words : sequence of str, optional
        The service's ordered words of confidence, rising.
    curl, har, openapi : str, bytes, bytes, optional
        One of: a line for curl, a HAR file, the service's OpenAPI document (version 3). Keys are
        never copied.
    operation : str
        Which operation of the OpenAPI document: its id or path.

    Returns
    -------
    Draft
        Its `toml` is the reading part of a description, its `description` the whole; `questions`
        what it cannot tell.

    Raises
    ------
    ArgumentError
        If there is no answer, one cannot be taken apart, or sizes are given and not one for each.

    Examples
    --------
    >>> made = draft_description([b'{"tags": [{"tag": "lantern", "score": 0.5}]}'])
    >>> made.rules[0].each, made.rules[0].label
    ('tags[]', 'tag')
    >>> line = "curl https://eyes.example/look -H 'X-Key: secret' --data-binary @a.jpg"
    >>> made = draft_description([b'{"tags": [{"tag": "lantern", "score": 0.5}]}'], curl=line)
    >>> made.asked.place, made.asked.name, made.asked.body, "secret" in made.description()
    ('header', 'X-Key', 'raw', False)
    """
    from dotledger.json_codec import to_json
    from dotledger.services.drafting import request_draft, saved_from, whole_draft

    saved = saved_from(curl=curl, har=har, openapi=openapi, operation=operation)
    raw = [bytes(a) if isinstance(a, bytes | bytearray) else to_json(a) for a in answers]
    raw = raw or saved.answers
    if sizes and len(sizes) != len(raw):
        raise ArgumentError(
            "give one size for each answer, or none",
            place="sizes",
            got=len(sizes),
            allowed=[str(len(raw))],
        )
    if curl is not None and not raw and saved is not None:
        return request_draft(saved)
    return whole_draft(raw, sizes, words=words, saved=saved)


def check_conventions(
    ledger: Ledger | PathLike,
    annotations: Annotations | PathLike | Any,
    *,
    batch: int | None = None,
    service: str | None = None,
) -> list[Fit]:
    """Tell whether a batch's boxes would fit the annotations better read in another way.

    Parameters
    ----------
    ledger : Ledger or path
        Where the batch is.
    annotations : Annotations, dataframe or path
        Ground truth of kinds with boxes.
    batch, service
        Which batch; by default the newest.

    Returns
    -------
    list of Fit
        The best first; see `dotledger.core.questions.box_conventions`.

    Raises
    ------
    LedgerError
        If there is no such ledger or batch.
    TableError
        If the annotations break the common shape.

    Examples
    --------
    >>> import dotledger
    >>> best = dotledger.check_conventions("photos.ledger", "truth.csv")[0]
    >>> best.mean_overlap > 0.5
    True
    """
    from dotledger.core.questions.box_conventions import ImageSize, check_conventions
    from dotledger.ledger.batch_queries import find_batch, kept_sizes
    from dotledger.ledger.finding_queries import load_findings
    from dotledger.ledger.ledger_access import opened_ledger

    annotated = annotations_given(annotations, "check_conventions(ledger, annotations)")
    with opened_ledger(ledger) as opened:
        found = find_batch(opened, batch=batch, service=service)
        sizes = {name: ImageSize(**size) for name, size in kept_sizes(opened, found).items()}
        findings = load_findings(opened, found)
    return check_conventions(findings, annotated, sizes)
