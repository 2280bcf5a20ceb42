"""One harmless call, taken apart: what went out, what came back, how it is read, what to do."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from msgspec import Struct, field

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import (
    AnswerError,
    ArgumentError,
    ConnectError,
    DotLedgerError,
    KeyNotFound,
    KeyRefused,
)
from dotledger.images.image_facts import read_facts
from dotledger.images.image_loading import made_ready
from dotledger.images.image_preparation import Prepared
from dotledger.json_codec import AsData, NotJSON, from_json, to_json
from dotledger.reading.rule_reader import Reading
from dotledger.reading.strict_toml import hinted
from dotledger.sending.calls.call_attempts import Caller, words_of
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.calls.http_transport import (
    HttpTransport,
    NoAnswer,
    Response,
    Transport,
    send_covered,
)
from dotledger.sending.calls.local_functions import Look, as_transport, transport_for
from dotledger.sending.calls.multi_step_calls import NoJobs, call_in_steps
from dotledger.sending.calls.oauth_tokens import KeySource, key_source
from dotledger.sending.policies.announced_limits import told_by
from dotledger.sending.policies.pacing import opening_pace
from dotledger.sending.policies.retrying import Patience
from dotledger.sending.policies.send_plan import Plan
from dotledger.services.answer_reading import Reader
from dotledger.services.credentials import find_key, find_signer, given_key
from dotledger.services.description_trust import TrustFacts, check_trust, facts_of
from dotledger.services.message_rules import Payload, Request
from dotledger.services.redaction import Key, Secrets
from dotledger.services.request_building import RequestBuilder
from dotledger.services.request_signing import Signer
from dotledger.services.response_envelope import opener
from dotledger.services.service_clock import ServiceClock, clock_for
from dotledger.services.service_description import Call, Description

__all__ = ["Trial", "advice", "answer_text", "try_call"]

_SHOWN_BODY = 400
_FLAT = re.compile(r"\[\s+([-+.\deE,\s]+?)\s+\]")
"""A list of numbers, which reads better on one line."""


class Trial(AsData, Struct, kw_only=True):
    """What one call to a service came to.

    Attributes
    ----------
    key : str
        Where the key was found, or where it was looked for.
    signer : str
        What signs the request; empty if nothing does.
    goes_to : list of str
        The addresses.
    code : list of str
        Code that the description names and that was not run.
    request : list of str
        The request line, headers and the start of the body, the key masked.
    status : int or None
        None if there was no answer, or nothing was sent.
    seconds : float
        Until the whole answer was there.
    content_type : str
        Of the answer.
    answer : str
        The answer, JSON indented, else as text.
    readings : list of Reading
        How the answer is read; one, or none if it cannot be.
    problem : str
        What went wrong, for people; empty if nothing did.
    next_steps : list of str
        What to do about it.
    """

    key: str = ""
    signer: str = ""
    goes_to: list[str] = field(default_factory=list)
    code: list[str] = field(default_factory=list)
    request: list[str] = field(default_factory=list)
    status: int | None = None
    seconds: float = 0.0
    content_type: str = ""
    answer: str = ""
    readings: list[Reading] = field(default_factory=list)
    problem: str = ""
    next_steps: list[str] = field(default_factory=list)

    @property
    def well(self) -> bool:
        """Whether nothing went wrong."""
        return not self.problem


def try_call(
    plan: Plan,
    image: bytes,
    *,
    address: str = "",
    call: str | None = None,
    key: str | Key | Callable[[], str] | None = None,
    transport: Transport | Look | None = None,
    signer: Signer | None = None,
    allow_code: bool = False,
    dry: bool = False,
    clock: Callable[[], float] = time.perf_counter,
) -> Trial:
    """Make one call with one image and take it apart; never raises for what the call does.

    Parameters
    ----------
    plan : Plan
        Of it only the description, kinds and calls are used.
    address : str, optional
        Where the service can fetch the image, if it does so itself.
    call : str, optional
        The call's name; by default the first.
    transport : Transport or callable, optional
        Instead of HTTP; a function takes an image's bytes, as prepared, and the settings.
    signer : callable, optional
        Instead of the one the description names.
    allow_code : bool, default False
        Let code run that the description names; see `dotledger.services.description_trust`.
    dry : bool
        Show what would be sent, and send nothing: no key is read and no code is run.
    clock : callable
        Seconds of a steady clock, for the time the call takes.

    Returns
    -------
    Trial
        Every step that was reached, and what went wrong at the one after.

    Raises
    ------
    ImageError
        If the image cannot be sent to this service.
    ArgumentError
        If there is no call of this name for the kinds wanted, or the service fetches images itself
        and there is no address.
    """
    key = given_key(key)
    trial, secrets = Trial(), Secrets()
    chosen, kinds = _chosen(plan, call)
    if chosen.fetched and not address and not dry:
        raise ArgumentError(
            f"{plan.description.service} fetches images itself, and this one has no address",
            place="IMAGE",
            next_step="Give the address of an image that the service can reach.",
        )
    prepared, frame = made_ready(image, read_facts(image), plan.demands)
    trial.goes_to = list(facts_of(plan.description).addresses)
    try:
        given = signer if plan.description.connect.key.place == "signed" else key
        check_trust(
            plan.description,
            code=allow_code,
            asked=given is None and not dry,
            dry=dry or transport is not None,
        )
        timeout = plan.description.connect.timeout
        plain = HttpTransport(timeout=timeout, at_once=1) if dry else None
        own = as_transport(transport, plan.description)
        way = own or plain or transport_for(plan.description, at_once=1)
        found = _found_key(plan.description, key, trial, dry=dry)
        secrets.add(found)
        used = found if dry else key_source(plan.description, found, way, clock, secrets).current()
        clock_of_service = clock_for(plan.description, time.time)
        builder = RequestBuilder(
            plan.description,
            chosen,
            kinds,
            signer=None if dry else signer or find_signer(plan.description),
            secrets=secrets,
            clock=clock_of_service,
        )
        request = builder.build([_payload(prepared, address)], used)
        trial.request = _shown(request, secrets)
        if not dry:
            sent: Callable[[], Response] = partial(send_covered, way, request, secrets)
            if chosen.bring or chosen.job or chosen.more or clock_of_service:
                keys = key_source(plan.description, found, way, clock, secrets)
                caller = _one_caller(plan.description, way, keys, secrets, clock, clock_of_service)
                sent = partial(_in_steps, caller, builder, _payload(prepared, address))
            body = _send(trial, sent, plan.description, clock)
            _read(trial, body, plan.description, chosen, kinds, frame)
    except DotLedgerError as error:
        trial.problem = trial.problem or secrets.text(str(error), least=1)
        trial.next_steps += advice(trial, plan.description, error)
    return trial


def _one_caller(
    description: Description,
    way: Transport,
    keys: KeySource,
    secrets: Secrets,
    clock: Callable[[], float],
    clock_of_service: ServiceClock | None,
) -> Caller:
    """Return a caller that makes each step once."""
    return Caller(
        transport=way,
        keys=keys,
        secrets=secrets,
        gate=CallGate(opening_pace(now=clock(), at_once=1), clock),
        patience=Patience(attempts=1, connections=1, refusals=2),
        steady=clock,
        wall=time.time,
        random=lambda: 0.5,
        sleep=time.sleep,
        told=told_by(description),
        opened=opener(description),
        clock=clock_of_service,
    )


def _in_steps(caller: Caller, builder: RequestBuilder, payload: Payload) -> Response:
    """Make a call of several steps; raises ConnectError where one of them came to nothing."""
    called = call_in_steps(caller, builder, [payload], jobs=NoJobs(), images="", sleep=caller.sleep)
    response = called.response
    well = response is not None and 200 <= response.status < 300
    if response is None or (called.reason and well):
        raise ConnectError(called.reason or "there was no answer")
    return response


def _chosen(plan: Plan, name: str | None) -> tuple[Call, tuple[str, ...]]:
    for call, kinds in plan.calls:
        if name in (None, call.name):
            return call, kinds
    known = [call.name for call, _ in plan.calls]
    raise ArgumentError(
        hinted("no such call", str(name), known), place="call", got=name, allowed=known
    )


def _payload(prepared: Prepared, address: str) -> Payload:
    return Payload(
        data=prepared.data,
        media_type=prepared.media_type,
        file_name=f"image.{prepared.format}",
        address=address or "https://example.invalid/image",
    )


def _found_key(
    description: Description,
    given: Key | None,
    trial: Trial,
    *,
    dry: bool,
) -> Key | None:
    facts = facts_of(description)
    trial.signer = facts.signer
    if dry:
        named = ", ".join(facts.keys)
        trial.key = f"not read; would come from {named}" if facts.keys else _no_key(facts)
        trial.code = list(facts.code)
        # Written so that every rule of signing can take it apart; what is shown covers it.
        return Key("the-id:0000000000000000", "nowhere") if facts.keys else None
    try:
        key = find_key(description, given=given)
    except KeyNotFound as error:
        trial.key = "not found; looked at " + "; ".join(error.facts["looked"])
        raise
    trial.key = f"found: {key.source}" if key else _no_key(facts)
    return key


def _no_key(facts: TrustFacts) -> str:
    return "the signer's own" if facts.signer else "none needed"


def _shown(request: Request, secrets: Secrets) -> list[str]:
    masked = request.masked(secrets)
    lines = [f"{masked.method} {masked.address}"]
    lines += [f"{name}: {value}" for name, value in masked.headers.items()]
    return [*lines, "", _shown_body(masked.body)] if masked.body else lines


def _shown_body(body: bytes) -> str:
    """Return the readable beginning of a body, and its size."""
    text = body[:_SHOWN_BODY].split(b"\xff\xd8", 1)[0].split(b"\x89PNG", 1)[0]
    plain = " ".join(text.decode("utf-8", "replace").split())
    shown = "".join(c if c.isprintable() else "·" for c in plain)
    return f"{shown} … ({len(body):,} bytes)".strip()


def _send(
    trial: Trial,
    sent: Callable[[], Response],
    description: Description,
    clock: Callable[[], float],
) -> bytes:
    start, told = clock(), told_by(description)
    try:
        response = sent()
    finally:
        trial.seconds = clock() - start
    trial.status = response.status
    trial.content_type = response.headers.get("content-type", "")
    trial.answer = answer_text(response.body)
    if not 200 <= response.status < 300:
        host = description.filled(description.connect.address)
        said = told.about(words_of(response))
        raise ConnectError(
            f"the service answered with status {response.status}: {said}", place=host
        )
    if said := told.no_key(_document(response, description)):
        raise KeyRefused(f"the service does not accept the key, in its answer: {said}")
    return response.body


def _document(response: Response, description: Description) -> Any:
    """Return what an answer says; None if it is not written as described, which is told later."""
    try:
        return opener(description)(response.body)
    except AnswerError:
        return None


def answer_text(body: bytes) -> str:
    """Return an answer for people: JSON with each value in its line, else as it is.

    Parameters
    ----------
    body : bytes
        JSON, or text.
    """
    try:
        parsed = from_json(body)
    except NotJSON:
        return body.decode("utf-8", "replace")
    return _FLAT.sub(_on_one_line, to_json(parsed, indent=True).decode())


def _on_one_line(match: re.Match[str]) -> str:
    return "[" + ", ".join(part.strip() for part in match[1].split(",")) + "]"


def _read(
    trial: Trial,
    body: bytes,
    description: Description,
    call: Call,
    kinds: tuple[str, ...],
    frame: Frame,
) -> None:
    if not description.read:
        return  # a description that is not finished: its answer is what is wanted
    [reading] = Reader(description).read(body, call.name, kinds, [frame])
    if isinstance(reading, AnswerError):
        raise reading
    trial.readings = [reading]
    if reading.unread:
        listed = "; ".join(f"{kind}: {reason}" for kind, reason in reading.unread.items())
        trial.problem = f"the answer came and was not read ({listed})"
        trial.next_steps.append(
            "The description does not fit this answer: compare the [[read]] rules with it. If a "
            "section may be missing, say optional = true in its rule."
        )
    elif not reading.found:
        trial.next_steps.append(
            "Nothing was read out of the answer. If it holds something, compare the paths of the "
            "[[read]] rules with the answer above."
        )


def advice(trial: Trial, description: Description, error: DotLedgerError) -> list[str]:
    """Return a plain next step for each usual mistake that fits what happened.

    Returns
    -------
    list of str
        Empty if no usual mistake fits.
    """
    if isinstance(error, KeyNotFound):
        return [
            f"Set one of the sources: {', '.join(description.connect.key.sources)}. "
            "The key itself never goes into the description."
        ]
    if isinstance(error, KeyRefused):
        return list(_ADVICE_FOR_KEY)
    if isinstance(error, NoAnswer):
        return _advice_for_silence(error, description)
    if isinstance(error, AnswerError):
        return _advice_for_answer(trial)
    return [text for statuses, text in _BY_STATUS if trial.status in statuses] or (
        ["The service's own words stand in the answer above."] if trial.answer else []
    )


_ADVICE_FOR_KEY = (
    "The key was sent and not accepted: check that it is whole, not expired, and meant for "
    "this service; check [connect.key] place, name and prefix.",
)
_BY_STATUS: tuple[tuple[tuple[int, ...], str], ...] = (
    ((401,), *_ADVICE_FOR_KEY),
    (
        (403,),
        "The key is known but may not do this: check its rights, whether it belongs to another "
        "region or project, and where [connect.key] puts it.",
    ),
    (
        (404, 405),
        "The address is not known there: check region, project and version in "
        "[connect.settings], and the call's path and method.",
    ),
    (
        (400, 415, 422),
        "The service does not understand the body: check the call's body, image_field and the "
        "content type above.",
    ),
    ((413,), "The image is too large for the service: set limits.max_bytes."),
    ((407,), "A proxy wants a name and password: set them in the proxy's address."),
    ((429,), "The rate or quota is used up: wait, and set limits.per_second or per_month."),
    (
        (301, 302, 303, 307, 308),
        "The service sends us elsewhere: put the new address into [connect].",
    ),
    ((500, 502, 503, 504), "The service itself has trouble: try again later."),
)


def _advice_for_silence(error: NoAnswer, description: Description) -> list[str]:
    address = description.filled(description.connect.address)
    return [_BY_CAUSE[error.cause].format(address=address)]


_BY_CAUSE: Mapping[str, str] = {
    "certificate": "The certificate is not trusted, or the service wants one of yours: if a proxy "
    "of your own network signs it, name its authorities in [connect.tls], or with SSL_CERT_FILE.",
    "proxy": "Check the proxy's address in HTTPS_PROXY, HTTP_PROXY and ALL_PROXY.",
    "header": "Check the key and the call's headers: a pasted key may have brought a line break.",
    "host": "No such host: check region and address: {address}",
    "time": "No answer in time: check the address {address}, a proxy, or connect.timeout.",
    "": "Nothing usable came from {address}: check host and port, and http or https.",
}


def _advice_for_answer(trial: Trial) -> list[str]:
    if "json" not in trial.content_type:
        kind = trial.content_type or "no content type"
        return [
            f"The answer is {kind}, not JSON: often a sign-in page or a proxy, or the wrong path."
        ]
    return ["The answer is not of the described shape: compare it with the [envelope] section."]
