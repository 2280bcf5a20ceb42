"""Calls of more than one step: bring the image first, wait for a job, fetch the other parts.

Each step is a call like any other: paced, tried again, its secrets covered. What comes of all of
them is one answer.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, Protocol

from msgspec.structs import replace

from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.reading.answer_paths import MISSING, Level, compile_path
from dotledger.sending.calls.call_attempts import Called, Caller
from dotledger.sending.calls.http_transport import MOST_BYTES, Response
from dotledger.services.answer_addresses import AnswerAddressRefused
from dotledger.services.answer_reading import job_word
from dotledger.services.message_rules import Payload, Request
from dotledger.services.redaction import Key
from dotledger.services.request_building import RequestBuilder

__all__ = ["Jobs", "NoJobs", "call_in_steps", "images_key"]


class Jobs(Protocol):
    """Where jobs under way are remembered: they outlive the process."""

    def known(self, call: str, images: str) -> tuple[str, int]:
        """Return where a job about these images is asked for, and how often that failed.

        Empty and 0 if there is none.
        """

    def began(self, call: str, images: str, where: str) -> None:
        """Remember a job before anything else can go wrong."""

    def tried(self, call: str, images: str) -> int:
        """Note that a job's answer could not be got this time; return how often by now."""

    def ended(self, call: str, images: str) -> None:
        """Forget a job that is over."""


class NoJobs:
    """Remembers nothing: for callers without a ledger."""

    def known(self, call: str, images: str) -> tuple[str, int]:  # noqa: ARG002, D102
        return "", 0

    def began(self, call: str, images: str, where: str) -> None:
        """Do nothing."""

    def tried(self, call: str, images: str) -> int:  # noqa: ARG002
        """Do nothing; nobody will ask for the job again."""
        return _MOST_TRIES

    def ended(self, call: str, images: str) -> None:
        """Do nothing."""


def images_key(shas: Sequence[str]) -> str:
    """Return what a job's images are known by: a digest of theirs, in order.

    Parameters
    ----------
    shas : sequence of str
        SHA-256 of each image, in hexadecimal.

    Returns
    -------
    str
        64 hexadecimal digits.
    """
    return hashlib.sha256("/".join(shas).encode()).hexdigest()


def call_in_steps(
    caller: Caller,
    builder: RequestBuilder,
    payloads: Sequence[Payload],
    *,
    jobs: Jobs,
    images: str,
    sleep: Callable[[float], None],
) -> Called:
    """Make one call, with all the steps that its description asks for.

    Parameters
    ----------
    images : str
        What the images are known by; see `images_key`.
    sleep : callable
        Waits so many seconds, or less if the batch is stopped.

    Returns
    -------
    Called
        Of the whole: the first step's start and attempts, the last one's answer. Only what was
        asked first counts as a request that may cost something.
    """
    call = builder.call
    where, tries = jobs.known(call.name, images) if call.job is not None else ("", 0)
    if where:
        first = _asked_before(caller, call.name, len(payloads), counted=tries > 0)
    else:
        first = _brought_and_asked(caller, builder, payloads)
        if first.reason or first.pending:
            return first
        try:
            where = _where(builder, first) if call.job is not None else ""
        except AnswerAddressRefused as error:
            return _failed(first, str(error))
        if where:
            jobs.began(call.name, images, where)
    ended = _waited(caller, builder, where, first, sleep) if where else first
    if call.more is not None and not (ended.reason or ended.pending):
        ended = _with_parts(caller, builder, ended)
    return _noted(jobs, (call.name, images), ended) if where else ended


_MOST_TRIES = 3
_MOST_NOT_UNDERSTOOD = 5
"""Answers about a job, one after another, that say nothing of its state."""


def _noted(jobs: Jobs, job: tuple[str, str], ended: Called) -> Called:
    """Mark a job that is over, and keep one whose answer only could not be got.

    One that ended well is forgotten by whoever keeps its answer, and not before: a kill between the
    two, while further parts are fetched, would have it paid for again.

    The service has taken the image and its price, so asking for the same job again costs nothing.
    After a few runs without success it is given up, which is said: what comes then is paid again.
    """
    if ended.pending:
        return ended
    if not ended.reason:
        return replace(ended, job=job)
    if ended.final:
        jobs.ended(*job)
        return ended
    tries = jobs.tried(*job)
    if tries < _MOST_TRIES:
        return _failed(ended, f"{ended.reason}; asking again costs nothing, the job is kept")
    jobs.ended(*job)
    return _failed(ended, f"{ended.reason}; given up after {tries} runs: asking anew is paid again")


def _asked_before(caller: Caller, name: str, images: int, *, counted: bool) -> Called:
    """Return the first step of a call whose job is under way: counted now, if not before."""
    return Called(
        money=0.0 if counted else caller.price_of(name, images),
        response=None,
        reason="",
        started=caller.wall(),
        seconds=0.0,
        attempts=0,
        sent_bytes=0,
        requests=0 if counted else 1,
    )


def _follow(
    caller: Caller,
    builder: RequestBuilder,
    address: str,
    build: Callable[[Key | None], Request],
    *,
    silent: bool = False,
) -> Called:
    """Make a step to an address that an answer gave and that was checked."""
    own = builder.addresses.is_own(address)
    return caller.call(build, silent=silent, given="here" if own else "elsewhere")


def _value(document: Any, path: str) -> Any:
    """Return what stands at a path; of lines of JSON what the last one says that has it."""
    found = _at(document, path)
    if found is None and isinstance(document, list):
        said = (_at(line, path) for line in reversed(document))
        found = next((one for one in said if one is not None), None)
    return found


def _at(document: Any, path: str) -> Any:
    found = compile_path(path)(Level(document, "", 0, None)) if path else MISSING
    return None if found is MISSING else found


# -- first bring, then ask ------------------------------------------------------------------------


_EXPIRED = (404, 410)
"""What a service says of an image that it no longer has, or never finished taking."""


def _brought_and_asked(
    caller: Caller, builder: RequestBuilder, payloads: Sequence[Payload]
) -> Called:
    """Bring the images and ask; once more where what they were known by has run out meanwhile."""
    asked = _brought_and_asked_once(caller, builder, payloads)
    expired = asked.response is not None and asked.response.status in _EXPIRED
    if builder.call.bring is not None and expired and not asked.pending:
        return _brought_and_asked_once(caller, builder, payloads)
    return asked


def _brought_and_asked_once(
    caller: Caller, builder: RequestBuilder, payloads: Sequence[Payload]
) -> Called:
    brought, problem = _brought(caller, builder, payloads)
    if problem is not None:
        return problem
    build = partial(builder.build, [one for one, _ in brought])
    asked = caller.call(build, paid=builder.call.name, images=len(brought))
    _remove(caller, builder, brought, asked)
    return asked


def _brought(
    caller: Caller, builder: RequestBuilder, payloads: Sequence[Payload]
) -> tuple[list[tuple[Payload, str]], Called | None]:
    """Put each image where the service wants it; return what it is known by there."""
    bring = builder.call.bring
    if bring is None:
        return [(one, "") for one in payloads], None
    done: list[tuple[Payload, str]] = []
    for payload in payloads:
        known, problem = _bring_one(caller, builder, payload)
        if problem is not None:
            _remove(caller, builder, done, None)
            return [], problem
        done.append((replace(payload, address=known), known))
    return done, None


def _bring_one(
    caller: Caller, builder: RequestBuilder, payload: Payload
) -> tuple[str, Called | None]:
    bring = builder.call.bring
    assert bring is not None
    body = b"" if bring.to else payload.data
    asked = caller.call(
        lambda key: builder.step(
            bring.path, key, method=bring.method, body=body, media_type=payload.media_type
        )
    )
    if asked.reason or asked.pending:
        return "", asked
    known = _value(asked.document, bring.id)
    if bring.to:
        goal = _value(asked.document, bring.to)
        if not isinstance(goal, str) or not goal:
            return "", _failed(asked, f"no address to bring the image to at {bring.to!r}")
        try:
            address = builder.addresses.checked(goal)
        except AnswerAddressRefused as error:
            return "", _failed(asked, str(error))
        # What was handed out is a permission by itself: no key goes there.
        put = _follow(
            caller,
            builder,
            address,
            lambda _: builder.step(
                address, None, method="PUT", body=payload.data, media_type=payload.media_type
            ),
            silent=True,
        )
        if put.reason or put.pending:
            return "", put
    if not isinstance(known, str | int) or known == "":
        return "", _failed(asked, f"no id of the image at {bring.id!r}")
    return str(known), None


def _remove(
    caller: Caller,
    builder: RequestBuilder,
    brought: Sequence[tuple[Payload, str]],
    asked: Called | None,
) -> None:
    """Take images away again, also when the asking failed; that it fails costs nothing."""
    bring = builder.call.bring
    if bring is None or not bring.remove or (asked is not None and asked.pending):
        return
    for _, known in brought:
        path = bring.remove.replace("{id}", _quoted(known))
        removing = partial(builder.step, path, method="DELETE")
        caller.call(removing, silent=True)


def _failed(called: Called, reason: str) -> Called:
    """Return a call as failed for a reason that concerns its own images."""
    return replace(called, reason=reason, own_fault=True)


def _quoted(text: str) -> str:
    from urllib.parse import quote

    return quote(text, safe="")


# -- the answer comes later -----------------------------------------------------------------------


def _where(builder: RequestBuilder, first: Called) -> str:
    """Return where to ask for a job's end; empty if the answer is there already.

    Raises AnswerAddressRefused before anything is remembered: a later run would meet it again.
    """
    job = builder.call.job
    assert job is not None
    accepted = first.response is not None and first.response.status == 202
    state = _value(first.document, job.state)
    waiting = isinstance(state, str) and state not in (*job.done, *job.failed)
    waiting = waiting or (state is None and bool(job_word(first.document)))
    if not accepted and not waiting:
        return ""
    if job.header and first.response is not None:
        named = {name.casefold(): value for name, value in first.response.headers.items()}
        found = named.get(job.header.casefold(), "")
        return builder.addresses.checked(found) if found else ""
    if job.address:
        found = _value(first.document, job.address)
        return builder.addresses.checked(found) if isinstance(found, str) and found else ""
    known = _value(first.document, job.id)
    return "" if known in (None, "") else job.path.replace("{id}", _quoted(str(known)))


def _waited(
    caller: Caller,
    builder: RequestBuilder,
    where: str,
    first: Called,
    sleep: Callable[[float], None],
) -> Called:
    """Ask again until the job is done, has failed, or takes too long."""
    job = builder.call.job
    assert job is not None
    began = caller.steady()
    asked_again = False
    try:  # one that an earlier version remembered was not checked then
        where = builder.addresses.checked(where) if "://" in where else where
    except AnswerAddressRefused as error:
        return _of_whole(first, replace(_failed(first, str(error)), final=True))
    wait = _asked_wait(first.response) or (job.every if first.response is not None else 0.0)
    not_understood = 0
    while True:
        if wait:  # a service may ask for an hour; the description says how long is too long
            sleep(min(wait, max(0.0, began + job.longest - caller.steady())))
        polled = _follow(caller, builder, _whole(builder, where), partial(builder.step, where))
        if polled.reason or polled.pending:
            return _of_whole(first, polled)
        state = _value(polled.document, job.state) if job.state else None
        still = polled.response is not None and polled.response.status == 202
        still = still or (not job.state and bool(job_word(polled.document)))
        if state in job.failed:
            why = _value(polled.document, job.reason) or state
            failed = _failed(polled, f"the job failed ({str(why)[:200]})")
            return _of_whole(first, replace(failed, final=True))
        # With words for its end, an answer without any is not the end: it is none that we know.
        not_understood = not_understood + 1 if state is None and not still and job.done else 0
        if not_understood >= _MOST_NOT_UNDERSTOOD:
            reason = f"what the service says of the job is not understood: no word at {job.state!r}"
            return _of_whole(first, replace(polled, reason=reason, pending=True))
        if state in job.done or (state is None and not still and not job.done):
            fetched = _fetched(caller, builder, polled)
            # A link that has run out: the job itself may give another.
            if not asked_again and fetched is not polled and _has_expired(fetched):
                asked_again, wait = True, 0.0
                continue
            return _of_whole(first, fetched)
        if caller.steady() - began >= job.longest:
            said = f" ({job.state} says {str(state)[:40]!r})" if state is not None else ""
            reason = f"the job is not done after {job.longest:g} s{said}"
            reason += "; it is asked for again next time"
            return _of_whole(first, replace(polled, reason=reason, pending=True))
        wait = _asked_wait(polled.response) or job.every


def _whole(builder: RequestBuilder, where: str) -> str:
    """Return a step's whole address, to tell whether it leads to the service itself."""
    return where if "://" in where else builder.home


def _has_expired(fetched: Called) -> bool:
    status = fetched.response.status if fetched.response is not None else None
    return bool(fetched.reason) and status in (401, 403, 404, 410)


def _fetched(caller: Caller, builder: RequestBuilder, done: Called) -> Called:
    """Fetch the result where the finished job only says where it is."""
    job = builder.call.job
    assert job is not None
    where = _value(done.document, job.result) if job.result else None
    if not isinstance(where, str) or not where:
        return done
    try:
        address = builder.addresses.checked(where)
    except AnswerAddressRefused as error:
        return replace(done, reason=str(error))
    return _follow(caller, builder, address, partial(builder.step, address))


def _asked_wait(response: Response | None) -> float:
    """Return how long the service asks to wait, in seconds; 0 where it does not say."""
    value = "" if response is None else response.headers.get("retry-after", "").strip()
    return float(value) if value.isascii() and value.isdigit() and len(value) < _DIGITS else 0.0


_DIGITS = 10


def _of_whole(first: Called, last: Called) -> Called:
    """Return the last step as the end of the whole call; asking for a job costs nothing.

    A job that is still under way is counted when it ends, by whoever sees that: a process that is
    killed writes down nothing.
    """
    return replace(
        last,
        started=first.started,
        seconds=first.seconds + last.seconds,
        attempts=first.attempts or last.attempts,
        sent_bytes=first.sent_bytes,
        requests=0 if last.pending else first.requests,
        money=0.0 if last.pending else first.money,
    )


# -- the answer comes in parts --------------------------------------------------------------------


def _with_parts(caller: Caller, builder: RequestBuilder, first: Called) -> Called:
    """Fetch the other parts of an answer; all of them together are one JSON list."""
    more = builder.call.more
    assert more is not None
    documents, bodies = [first.document], [_body(first)]
    seen: set[str] = set()
    last = first
    while (goal := _next(documents[-1], more.next)) and len(documents) < more.most:
        if goal in seen:  # a service that leads in a circle would never end
            return _of_whole(first, replace(last, reason="its parts lead in a circle"))
        seen.add(goal)

        address = builder.home
        if not more.query:
            try:
                address = builder.addresses.checked(goal)
            except AnswerAddressRefused as error:
                return _of_whole(first, _failed(last, str(error)))

        def build(key: Key | None, goal: str = goal, address: str = address) -> Request:
            if more.query:
                return builder.step(builder.call.path, key, query={more.query: goal})
            return builder.step(address, key)

        last = _follow(caller, builder, address, build)
        if last.reason or last.pending:
            return _of_whole(first, last)
        documents.append(last.document)
        bodies.append(_body(last))
        if (size := sum(map(len, bodies))) > MOST_BYTES:
            reason = f"its parts together are longer than {MOST_BYTES:,} bytes ({size:,} so far)"
            return _of_whole(first, _failed(last, reason))
    if _next(documents[-1], more.next):
        return _of_whole(first, replace(last, reason=f"more than {more.most} parts"))
    whole = Response(
        status=200,
        headers=first.response.headers if first.response else {},
        body=_as_list(bodies, documents),
    )
    return replace(_of_whole(first, last), response=whole, document=documents)


def _body(called: Called) -> bytes:
    return called.response.body if called.response else b"null"


def _as_list(bodies: Sequence[bytes], documents: list[Any]) -> bytes:
    """Return parts as one JSON list: byte for byte where they are JSON, else what they say."""
    joined = b"[" + b",".join(body.strip() for body in bodies) + b"]"
    try:
        return joined if from_json(joined) == documents else to_json(documents)
    except NotJSON:
        return to_json(documents)


def _next(document: Any, path: str) -> str:
    found = _value(document, path)
    return "" if found in (None, "", False) else str(found)
