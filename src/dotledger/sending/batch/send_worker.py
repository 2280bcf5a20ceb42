"""What one worker thread does with images: read, prepare, call, read the answer."""

from __future__ import annotations

import contextlib
import hashlib
import logging
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import AnswerError, ImageError, UnreadError
from dotledger.images.image_gathering import Item
from dotledger.images.image_loading import LookedAt, look_at, made_ready, why_not
from dotledger.images.image_preparation import Prepared
from dotledger.ledger.ledger_records import (
    CallRecord,
    ImageRecord,
    ItemRecord,
    OutcomeRecord,
    SentRecord,
)
from dotledger.sending.batch.send_log import found_in, note_kept, note_not_asked, note_reading
from dotledger.sending.calls.call_attempts import Called, Caller
from dotledger.sending.calls.multi_step_calls import Jobs, NoJobs, call_in_steps, images_key
from dotledger.sending.policies.conditional_calls import fate_of
from dotledger.sending.policies.send_plan import Plan
from dotledger.services.message_rules import Payload, Request
from dotledger.services.redaction import Key, Secrets
from dotledger.services.request_building import RequestBuilder
from dotledger.services.request_signing import Signer
from dotledger.services.response_envelope import kept_headers
from dotledger.services.service_clock import ServiceClock
from dotledger.services.service_description import Call

if TYPE_CHECKING:
    from dotledger.ledger.answer_queries import StoredAnswer
    from dotledger.reading.rule_reader import Reading
    from dotledger.services.answer_reading import Reader

__all__ = ["LoadedImage", "Position", "Settled", "Take", "Worker", "digest_of", "half_of"]

_log = logging.getLogger("dotledger")
_QUICK = 0.02
"""After a file that took longer to read and hash, in seconds, the next one waits for none."""

_MOST_WITHOUT_A_CALL = 64
Position = tuple[int, Item]
Take = Callable[[bool], Position | None]
"""The next image; told whether to wait for one where none is there just now."""
Keep = Callable[[CallRecord, "list[ImageRecord]", "list[str]", bool], bool]


class LoadedImage(Struct, kw_only=True):
    """One image read and prepared, with the record that collects what happens to it."""

    record: ItemRecord
    sha: str
    frame: Frame
    payload: Payload
    unanswered: set[str]
    asked: str = ""


class Settled(Struct, kw_only=True):
    """What a worker hands over.

    Attributes
    ----------
    done : list of ItemRecord
        Settled by this worker.
    lookups : list of (LoadedImage, tuple of str)
        Images whose named calls are answered in the ledger, or soon will be.
    loose : list of CallRecord
        Calls that settled nothing.
    halves : list of ItemRecord
        Images given back with some of their calls answered: without outcomes.
    pending : int
        Images given back unsettled.
    """

    done: list[ItemRecord] = field(default_factory=list)
    lookups: list[tuple[LoadedImage, tuple[str, ...]]] = field(default_factory=list)
    loose: list[CallRecord] = field(default_factory=list)
    halves: list[ItemRecord] = field(default_factory=list)
    pending: int = 0


class Worker:
    """Everything worker threads share.

    Who asks may be told by `known` (of a call, the SHA-256 of a file and of what is sent of it: is
    it answered?) and `claims` (which of some calls are ours to make); both may be set later.

    Parameters
    ----------
    keep : callable
        Given a call with its answer, its images, what was sent of them and whether it answers
        them; called first, before anything else is done with an answer. Returns whether it is kept.
    signer : callable, optional
        See `RequestBuilder`.
    secrets : Secrets, optional
        Where what a signer adds is noted.
    jobs : Jobs, optional
        Where jobs under way are remembered.
    stored : callable, optional
        From a call's name, an image's SHA-256 and that of what is sent of it to the answer that
        the ledger holds.
    """

    def __init__(
        self,
        plan: Plan,
        caller: Caller,
        keep: Keep,
        *,
        signer: Signer | None = None,
        secrets: Secrets | None = None,
        jobs: Jobs | None = None,
        stored: Callable[[str, str, str], StoredAnswer | None] | None = None,
    ) -> None:
        self.claims: Callable[[int, Iterable[str], str], set[str]] | None = None
        self.known: Callable[[str, str, str], bool] | None = None
        self._stored = stored
        self._told_of_the_end = False
        self._fetched = any(call.fetched for call, _ in plan.calls)
        self._kept_headers = plan.description.envelope.keep_headers
        self._jobs: Jobs = jobs or NoJobs()
        self._plan = plan
        self._caller = caller
        self._keep = keep
        self._claimed: dict[str, set[bytes]] = {call.name: set() for call, _ in plan.calls}
        self._claiming = threading.Lock()
        self._looking = threading.Lock()
        self._quick = True
        # Where several images share a call, only one thread fills a call at a time: each but the
        # last goes out full, and no more calls are paid for than needed.
        shared = plan.images_per_call > 1
        self._filling = threading.Lock() if shared else contextlib.nullcontext()
        self._reading: Reader | None = None
        self._builders = {
            call.name: RequestBuilder(
                plan.description,
                call,
                kinds,
                signer=signer,
                secrets=secrets,
                round=plan.round,
                clock=caller.clock or ServiceClock(caller.wall),
            )
            for call, kinds in plan.calls
        }

    def reader(self) -> Reader:
        """Return the reader, compiled at first use: the first call goes out before."""
        if self._reading is None:
            from dotledger.services.answer_reading import Reader

            self._reading = Reader(self._plan.description)
        return self._reading

    def settle(self, take: Take) -> Settled | None:
        """Take as many images as fill a call, as far as they go; None if there are none left.

        Images that need no call (refused, or answered elsewhere) do not count, but are handed
        over before they are many.
        """
        result = Settled()
        with self._filling:
            loaded, taken = self._filled(take, result)
        if not taken:
            return None
        for call, kinds in self._plan.calls:
            self._call([one for one in loaded if self._asks(one, call, kinds)], call, kinds, result)
        for one in loaded:
            self._close(one, result)
        return result

    def _filled(self, take: Take, result: Settled) -> tuple[list[LoadedImage], bool]:
        """Return the images for one call, and whether anything was taken."""
        loaded: list[LoadedImage] = []
        taken = False
        while len(loaded) < self._plan.images_per_call:
            if (position := take(not taken)) is None:
                break
            taken = True
            one = self._load(*position, result)
            if one is not None and one.unanswered:
                loaded.append(one)
            elif one is not None:
                self._close(one, result)
            if not loaded and len(result.lookups) + len(result.done) >= _MOST_WITHOUT_A_CALL:
                break
        return loaded, taken

    def _refuse_local(self, item: Item) -> None:
        """Refuse a file where the service fetches images itself: a path says who we are, only."""
        if self._fetched and "://" not in item.where:
            raise ImageError("the service fetches images itself, and this one has no address")

    def _close(self, one: LoadedImage, result: Settled) -> None:
        """Sort an image by whether it is settled, answered elsewhere, or still pending."""
        elsewhere = tuple(c.name for c, _ in self._plan.calls if c.name not in one.unanswered)
        known = {outcome.kind for outcome in one.record.outcomes}
        here = {k for c, ks in self._plan.calls if c.name in one.unanswered for k in ks}
        if here - known:
            result.pending += 1
            self._keep_half(one.record, result)
            self._release(one)
        elif elsewhere:
            one.payload = Payload(data=b"")  # it will not go out; do not hold it in memory
            result.lookups.append((one, elsewhere))
        else:
            result.done.append(one.record)

    def _keep_half(self, record: ItemRecord, result: Settled) -> None:
        """Keep what was paid for an image that is not settled: the next sending goes on from it."""
        answered = {id(call) for _, call, _ in record.answered}
        made = {id(o.call): o.call for o in record.outcomes if o.call is not None}
        result.loose += [call for key, call in made.items() if key not in answered]
        if answered:
            result.halves.append(half_of(record))

    def _release(self, one: LoadedImage) -> None:
        self.forget(one, one.unanswered)

    def forget(self, one: LoadedImage, names: Iterable[str]) -> None:
        """Forget that we, or somebody else, asked for an image: whoever comes next may."""
        self._unclaim(one.sha, one.asked, tuple(names))

    def _unclaim(self, sha: str, asked: str, names: Sequence[str]) -> None:
        known = _known_by(sha, asked)
        with self._claiming:
            for name in names:
                self._claimed[name].difference_update(known)

    def _load(self, position: int, item: Item, result: Settled) -> LoadedImage | None:
        record = ItemRecord(position=position)
        try:
            data, sha, facts = self._looked_at(item)
            record.image = ImageRecord(
                sha, facts.size, facts.format, facts.width, facts.height, facts.orientation
            )
            self._refuse_local(item)
            prepared, frame = made_ready(data, facts, self._plan.demands)
        except Exception as error:  # no image may end the batch, whatever a decoder makes of it
            result.done.append(self._refused(record, why_not(error)))
            return None
        record.sent = SentRecord(
            prepared.width,
            prepared.height,
            len(prepared.data),
            prepared.turned,
            prepared.quality,
            prepared.steps,
        )
        record.asked = digest_of(prepared, data, sha, item.where if self._fetched else "")
        return LoadedImage(
            record=record,
            sha=sha,
            frame=frame,
            payload=_payload(prepared, item.where),
            unanswered=self._claim(position, sha, record.asked),
            asked=record.asked,
        )

    def _looked_at(self, item: Item) -> LookedAt:
        """Look at a file; see `look_at`.

        One thread at a time, as long as that is quick: several would mostly take turns at the
        interpreter, and every turn costs. Where files are large or slow, nobody waits.
        """
        with self._looking if self._quick else contextlib.nullcontext():
            entered = self._caller.steady()
            looked_at = look_at(item)
        self._quick = self._caller.steady() - entered < _QUICK
        return looked_at

    def look(self, item: Item, known: Callable[[LoadedImage], None] | None = None) -> ItemRecord:
        """Settle one image by itself, whoever else is asking about the same bytes.

        `known` may settle calls of the image from elsewhere: it takes their names out of
        `unanswered`, and puts what it knows into the record.
        """
        result = Settled()
        one = self._load(0, item, result)
        if one is None:
            return result.done[0]
        self._release(one)
        one.unanswered = {call.name for call, _ in self._plan.calls}
        if known is not None:
            known(one)
        for call, kinds in self._plan.calls:
            if self._asks(one, call, kinds):
                self._call_once([one], call, kinds, result)
        settled = {outcome.kind for outcome in one.record.outcomes}
        reason = self._caller.gate.stop_reason or "no call was made"
        one.record.outcomes += [
            OutcomeRecord(kind=kind, outcome="pending", reason=reason)
            for kind in self._plan.kinds
            if kind not in settled
        ]
        return one.record

    def _asks(self, one: LoadedImage, call: Call, kinds: tuple[str, ...]) -> bool:
        """Tell whether a call is made for an image; note why if it is left out."""
        if call.name not in one.unanswered:
            return False
        if call.only_if is None:
            return True
        known = self._so_far(one, call.only_if.kind)
        fate = fate_of(call.only_if, *found_in(known))
        if fate in ("skip", "fail"):
            note_not_asked(one.record, call, kinds, fate)
        return fate == "ask"

    def _so_far(self, one: LoadedImage, kind: str) -> ItemRecord:
        """Return what is known of an image; from the ledger where the kind was answered before."""
        if self._stored is None or any(o.kind == kind for o in one.record.outcomes):
            return one.record
        name, kinds = next((c.name, kinds) for c, kinds in self._plan.calls if kind in kinds)
        kept = None if name in one.unanswered else self._stored(name, one.sha, one.asked)
        record = ItemRecord(position=0)
        if kept is not None:
            note_kept(record, kept, name, kinds, one.frame, self.reader())
        return record

    def _claim(self, position: int, sha: str, asked: str) -> set[str]:
        """Return the calls this image needs from us, so that equal bytes are sent once."""
        known = _known_by(sha, asked)
        with self._claiming:
            mine = {n for n, claimed in self._claimed.items() if claimed.isdisjoint(known)}
            for name in mine:
                self._claimed[name].update(known)
        granted = mine
        if self.known is not None:
            granted = {name for name in mine if not self.known(name, sha, asked)}
        if granted and self.claims is not None:
            granted = self.claims(position, granted, asked)
        self._unclaim(sha, asked, tuple(mine - granted))
        return granted

    def _refused(self, record: ItemRecord, reason: str) -> ItemRecord:
        record.outcomes = [
            OutcomeRecord(kind=kind, outcome="refused", reason=reason) for kind in self._plan.kinds
        ]
        return record

    def _call(
        self, images: list[LoadedImage], call: Call, kinds: tuple[str, ...], result: Settled
    ) -> None:
        for start in range(0, len(images), call.images):
            self._call_once(images[start : start + call.images], call, kinds, result)

    def _call_once(
        self, images: list[LoadedImage], call: Call, kinds: tuple[str, ...], result: Settled
    ) -> None:
        payloads = [one.payload for one in images]
        builder = self._builders[call.name]

        def build(key: Key | None) -> Request:
            return builder.build(payloads, key)

        called = self._called(builder, build, images)
        record = _call_record(called, call, len(images))
        if called.response is not None:
            record.version = self._version(called)
            record.headers = kept_headers(called.response.headers, self._kept_headers)
            self._tell_of_the_end(record.headers)
            shown = [one.record.image for one in images if one.record.image is not None]
            kept = self._keep(record, shown, [one.asked for one in images], not called.reason)
            if kept and called.job is not None:
                self._jobs.ended(*called.job)
        if called.pending:
            if called.attempts:
                result.loose.append(record)
            if called.response is not None:
                self._caller.gate.waits_for = called.reason
            return
        if called.reason and len(images) > 1 and _blames_the_images(called):
            result.loose.append(record)
            for one in images:
                self._call_once([one], call, kinds, result)
            return
        if called.reason:
            self._failed(images, kinds, called.reason, record)
            self._count_failure(called)
            return
        self._read(images, kinds, record, called.document)

    def _called(
        self,
        builder: RequestBuilder,
        build: Callable[[Key | None], Request],
        images: list[LoadedImage],
    ) -> Called:
        """Make the call; in several steps where the description asks for them."""
        call = builder.call
        if call.bring is None and call.job is None and call.more is None:
            return self._caller.call(build, paid=call.name, images=len(images))
        return call_in_steps(
            self._caller,
            builder,
            [one.payload for one in images],
            jobs=self._jobs,
            images=images_key([one.sha for one in images]),
            sleep=self._caller.sleep,
        )

    def _tell_of_the_end(self, headers: Mapping[str, str]) -> None:
        """Say once that the service calls this deprecated, or says when it ends."""
        if not self._told_of_the_end and {"deprecation", "sunset"} & headers.keys():
            self._told_of_the_end = True
            said = ", ".join(
                f"{n}: {headers[n]}" for n in ("deprecation", "sunset") if n in headers
            )
            _log.warning("%s will not be there for ever (%s)", self._plan.description.service, said)

    def _version(self, called: Called) -> str:
        """Return what the service says of its own version; an answer is kept whatever it says."""
        try:
            headers = called.response.headers if called.response else {}
            return self.reader().version_of(called.document, headers)
        except Exception:
            return ""

    def _failed(
        self,
        images: list[LoadedImage],
        kinds: tuple[str, ...],
        reason: str,
        record: CallRecord,
        outcome: str = "failed",
    ) -> None:
        for one in images:
            one.record.outcomes += [
                OutcomeRecord(kind=kind, outcome=outcome, reason=reason, call=record)
                for kind in kinds
            ]

    def _count_failure(self, called: Called) -> None:
        """Tell the gate of a call that failed, and whether many more would."""
        gate = self._caller.gate
        forbidden = called.response is not None and called.response.status == 403
        if not _blames_the_images(called):
            grave = (forbidden or not gate.proven) and not called.own_fault
            gate.failed(called.reason, grave=grave)
        elif not gate.proven:
            gate.failed(called.reason)

    def _waits_for_nothing(self, name: str) -> bool:
        """Tell whether an accepted job of this call is never asked for again."""
        return all(call.job is None for call, _ in self._plan.calls if call.name == name)

    def _count(self, readings: Sequence[Reading | AnswerError]) -> None:
        """Tell the gate whether anything could be read, so that a batch does not go on blindly."""
        problems = [_problem(reading) for reading in readings]
        if not all(problems):
            self._caller.gate.went_well()
        else:
            said = all(type(reading) is AnswerError for reading in readings)
            self._caller.gate.failed(problems[0], grave=not said)

    def _read(
        self, images: list[LoadedImage], kinds: tuple[str, ...], record: CallRecord, document: Any
    ) -> None:
        frames = [one.frame for one in images]
        if record.status == 202 and self._waits_for_nothing(record.call):
            document = {"status": "accepted"}  # no answer yet
        try:
            readings = self.reader().read_document(document, record.call, kinds, frames)
        except AnswerError as error:
            readings = [error] * len(images)
        except Exception as error:  # the answer is kept; reading it again is for nothing
            readings = [_unexpected(error)] * len(images)
        self._count(readings)
        for place, (one, reading) in enumerate(zip(images, readings, strict=True)):
            if isinstance(reading, UnreadError):
                self._failed([one], kinds, str(reading), record, "unread")
                one.record.answered.append((record.call, record, place))
            elif isinstance(reading, AnswerError):
                self._failed([one], kinds, str(reading), record)
            else:
                note_reading(one.record, reading, kinds, record, None)
                one.record.answered.append((record.call, record, place))


# Half a digest, as bytes, is enough to tell images of one sending apart: of a million, these are
# what takes most memory. Equal files are sent alike, so that where a file is sent as it is, what
# was sent says which file it is.
def _known_by(sha: str, asked: str) -> tuple[bytes, ...]:
    """Return what tells an image from others: what is sent of it, and its file if they differ."""
    sent = bytes.fromhex(asked[:32])
    return (sent,) if asked == sha else (sent, b"f" + bytes.fromhex(sha[:32]))


def _problem(reading: Reading | AnswerError) -> str:
    """Return why nothing at all could be read for one image; empty if something could."""
    if isinstance(reading, AnswerError):
        return str(reading)
    nothing = reading.unread and not reading.found
    return next(iter(reading.unread.values())) if nothing else ""


def _unexpected(error: Exception) -> AnswerError:
    return UnreadError(f"reading it failed (unexpected {type(error).__name__})")


def _blames_the_images(called: Called) -> bool:
    """Tell whether a refusal may be due to one of several images."""
    return called.response is not None and called.response.status in (400, 413, 415, 422)


def half_of(record: ItemRecord) -> ItemRecord:
    """Return what was answered of an image, without outcomes.

    Returns
    -------
    ItemRecord
        To be written: what is paid for is kept.
    """
    half = ItemRecord(position=record.position, image=record.image, sent=record.sent)
    half.answered, half.asked = record.answered, record.asked
    return half


def digest_of(prepared: Prepared, data: bytes, sha: str, address: str) -> str:
    """Return the SHA-256 of what goes out for one image: its bytes as prepared, or its address.

    Parameters
    ----------
    sha : str
        Of the file, which is that of what is sent where nothing was changed.
    address : str
        Where the service fetches the image itself; else empty.

    Returns
    -------
    str
        64 hexadecimal digits.
    """
    if address:
        return hashlib.sha256(address.encode("utf-8", "surrogateescape")).hexdigest()
    return sha if prepared.data is data else hashlib.sha256(prepared.data).hexdigest()


def _payload(prepared: Prepared, where: str) -> Payload:
    return Payload(
        data=prepared.data,
        media_type=prepared.media_type,
        file_name=f"image.{prepared.format}",
        address=where,
    )


def _call_record(called: Called, call: Call, images: int) -> CallRecord:
    response = called.response
    return CallRecord(
        call=call.name,
        started=called.started,
        seconds=called.seconds,
        attempts=called.attempts,
        status=response.status if response else None,
        sent_bytes=called.sent_bytes,
        images=images,
        price=called.money,
        requests=called.requests,
        reason=called.reason,
        media_type=response.headers.get("content-type", "") if response else "",
        answer=response.body if response else None,
    )
