"""One call from its first attempt to its end."""

from __future__ import annotations

import logging
import math
from collections.abc import Callable
from functools import partial
from typing import Any, Literal

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.errors import AnswerError, DotLedgerError
from dotledger.json_codec import NotJSON, from_json
from dotledger.ledger.ledger_records import timestamp
from dotledger.reading.answer_documents import document_reader
from dotledger.reading.error_messages import said_by
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.calls.http_transport import NoAnswer, Response, Transport, send_covered
from dotledger.sending.calls.oauth_tokens import KeySource
from dotledger.sending.calls.spending_meter import Meter
from dotledger.sending.policies.announced_limits import Told, left_and_reset
from dotledger.sending.policies.pacing import GiveUp
from dotledger.sending.policies.rate_windows import Start
from dotledger.sending.policies.retrying import (
    Accept,
    Again,
    Attempt,
    Fail,
    Next,
    Patience,
    Renew,
    Stop,
    next_step,
)
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Key, Secrets
from dotledger.services.service_clock import ServiceClock
from dotledger.text_display import plain_text

__all__ = ["Called", "Caller", "words_of"]

_LONGEST_DETAIL = 200
_log = logging.getLogger("dotledger")


class Called(Struct, frozen=True, kw_only=True):
    """How a call ended.

    Attributes
    ----------
    response : Response or None
        The last answer, if any.
    reason : str
        Empty if the call succeeded.
    started : float
        When the last attempt began, seconds since 1970.
    seconds : float
        How long the last attempt took.
    attempts : int
        How many there were; 0 if none was allowed.
    sent_bytes : int
        Of the last request's body.
    pending : bool
        The call was not made, or only because everything stopped: it may be made later.
    document : object
        What the answer says as JSON; None if there is none that can be read.
    requests : int
        Attempts that may have cost something: those that the service answered, or may have taken
        before the line failed; not those it refused because of the rate, or that never left.
    money : float
        What those cost.
    own_fault : bool
        It failed for a reason that concerns these images alone, such as an address in an answer.
    final : bool
        It failed, and asking for its job again would bring the same.
    job : (str, str) or None
        The job that this answers, by call and images: to be forgotten once the answer is kept.
    """

    response: Response | None
    reason: str
    started: float
    seconds: float
    attempts: int
    sent_bytes: int
    pending: bool = False
    document: Any = None
    requests: int = 0
    money: float = 0.0
    own_fault: bool = False
    final: bool = False
    job: tuple[str, str] | None = None


class Caller(Struct, frozen=True, kw_only=True):
    """Makes calls; shared by all worker threads.

    Attributes
    ----------
    transport : Transport
        The way out.
    keys : FixedKey or TokenSource
        Where keys come from.
    secrets : Secrets
        What is covered in answers and messages.
    gate : CallGate
        Who may call when.
    patience : Patience
        How long to go on.
    steady, wall : callable
        Seconds of a steady clock, and since 1970.
    random : callable
        A number from 0 to 1, for jitter.
    sleep : callable
        Waits so many seconds, or less if the batch is stopped.
    told : Told
        Where the service says that it is too fast, beside refusing.
    opened : callable
        Takes an answer apart into plain values; raises AnswerError.
    meter : Meter, optional
        Counts what requests cost; without one they cost nothing.
    clock : ServiceClock, optional
        Whose time is in signatures, where requests are signed by a rule.
    """

    transport: Transport
    keys: KeySource
    secrets: Secrets
    gate: CallGate
    patience: Patience
    steady: Callable[[], float]
    wall: Callable[[], float]
    random: Callable[[], float]
    sleep: Callable[[float], None]
    told: Told = Told()
    opened: Callable[[bytes], Any] = field(default_factory=document_reader)
    meter: Meter | None = None
    clock: ServiceClock | None = None

    def call(
        self,
        build: Callable[[Key | None], Request],
        *,
        paid: str = "",
        images: int = 1,
        silent: bool = False,
        given: Literal["", "here", "elsewhere"] = "",
    ) -> Called:
        """Make one call, with as many attempts as the deciding code wants.

        `paid` is the name of the call whose price each attempt costs, for so many images; a step
        that costs nothing has none. What a `silent` one answers does not matter, as long as it went
        well. `given` says whether an answer gave the address; see `Attempt`.
        """
        number, renewals, unauthorized, requests, money, ending = 0, 0, 0, 0, 0.0, None
        corrected_from: float | None = None
        while True:
            price, turn = self._turn(paid, images)
            if isinstance(turn, GiveUp):
                return _not_made(turn.reason, number, ending)
            number += 1
            attempt, ending, key = self._attempt(
                build, number, renewals, turn, silent=silent, given=given
            )
            self.gate.answered(turn)
            unauthorized += attempt.status == 401
            step = self._decided(replace(attempt, unauthorized=unauthorized))
            free = attempt.trouble in _NEVER_LEFT
            if free or _is_refusal(step):
                self._give_back(paid, price, images)
            else:
                self._spent(paid)
                requests, money = requests + 1, money + price
            ending = replace(ending, requests=requests, money=money)
            self._tell_gate(step, free=free)
            if isinstance(step, Accept):
                self._note_time(ending.response, attempt.offset)
                return ending
            corrected_from = self._doubted(attempt, corrected_from)
            _note(number, attempt, step)
            if isinstance(step, Fail):
                return replace(ending, reason=step.reason)
            if isinstance(step, Stop):
                self.gate.stop(step.reason)
                return replace(ending, reason=step.reason, pending=True)
            if isinstance(step, Renew):
                renewals += 1
                self._renew(attempt, key)
            elif step.seconds is not None and not step.everyone:
                self.sleep(step.seconds)

    def _note_time(self, response: Response | None, offset: float) -> None:
        """Remember with which difference of the clocks a signed request was accepted."""
        if self.clock is not None and response is not None:
            self.clock.proved(response.headers, offset)

    def _renew(self, attempt: Attempt, key: Key | None) -> None:
        """Get another key, unless only the time that was signed was wrong."""
        if not attempt.skewed:
            self.keys.renew(key)

    def _doubted(self, attempt: Attempt, corrected_from: float | None) -> float | None:
        """Undo a correction of the clock that did not help; return what one just made replaced."""
        if self.clock is None:
            return None
        if corrected_from is not None and attempt.status in _SAYS_NO:
            self.clock.back_to(corrected_from)
            return None
        return attempt.offset if attempt.skewed else corrected_from

    def _turn(self, paid: str, images: int) -> tuple[float, Start | GiveUp]:
        """Wait for a turn; return what it costs, or why there will be none."""
        price = 0.0
        if paid and self.meter is not None:
            month = timestamp(self.wall())[:7]
            taken = self.meter.take(paid, month, images)
            # Other calls have reserved the rest of the budget. One that is refused because of the
            # rate costs nothing, so some of it may come back.
            while taken is None and self.meter.held and not self.gate.over:
                self.meter.wait()
                taken = self.meter.take(paid, month, images)
            if taken is None and self.gate.stop_reason:
                return 0.0, GiveUp(self.gate.stop_reason)
            if taken is None:
                self.gate.allow(0, self.meter.reason)
                return 0.0, GiveUp(self.meter.reason)
            price = taken
        turn = self.gate.enter()
        if isinstance(turn, GiveUp):
            self._give_back(paid, price, images)
        return price, turn

    def price_of(self, paid: str, images: int = 1) -> float:
        """Return what a request costs that was made before, and is counted now."""
        if self.meter is None:
            return 0.0
        price = self.meter.take(paid, timestamp(self.wall())[:7], images)
        if price is None:
            return 0.0
        self._spent(paid)
        return price

    def _spent(self, paid: str) -> None:
        if paid and self.meter is not None:
            self.meter.spent()

    def _give_back(self, paid: str, price: float, images: int) -> None:
        if paid and self.meter is not None:
            self.meter.give_back(paid, price, images)

    def _obey(self, response: Response) -> None:
        """Hold everybody where the service announces that no call is left."""
        found = left_and_reset(response.headers, self.told, self.wall())
        if found is not None:
            self.gate.announced(*found)

    def _decided(self, attempt: Attempt) -> Next:
        return next_step(
            attempt,
            now=self.wall(),
            random=self.random(),
            patience=self.patience,
            proven=self.gate.proven,
        )

    def _tell_gate(self, step: Next, *, free: bool) -> None:
        if isinstance(step, Again) and step.everyone:
            self.gate.refused(step.seconds)
        elif isinstance(step, Accept):
            self.gate.accepted()
        else:
            self.gate.ended(free=free)

    def _attempt(
        self,
        build: Callable[[Key | None], Request],
        number: int,
        renewals: int,
        turn: Start,
        *,
        silent: bool,
        given: Literal["", "here", "elsewhere"],
    ) -> tuple[Attempt, Called, Key | None]:
        wall, start = self.wall(), self.steady()
        offset = 0.0 if self.clock is None else self.clock.offset
        key, size, response = None, 0, None
        facts: dict[str, Any] = {}
        document = None
        try:
            key = self.keys.current()
            request = build(key)
            size = len(request.body)
            response = send_covered(self.transport, self._leaving(request, turn), self.secrets)
            facts, document = _facts(response, (lambda _: None) if silent else self.opened)
            if given != "elsewhere":  # another host's limits are not the service's
                self._obey(response)
            if document is not None and (wait := self.told.slow_down(document)) is not None:
                asked = "the answer asks to slow down"
                facts = {"status": 429, "retry_after": f"{math.ceil(wait)}", "detail": asked}
            elif document is not None and (said := self.told.no_key(document)):
                facts, document = {"status": 401, "detail": said, "inside": True}, None
        except NoAnswer as error:
            facts = {"trouble": error.trouble, "detail": error.message}
        except DotLedgerError as error:
            facts = {"trouble": "unusable", "detail": str(error)}
        except Exception as error:  # one call must never end the batch, whatever it meets
            facts = _met(error, response)
        said = facts.get("detail", "")
        told = self.told.about(said) if "status" in facts and said else said
        facts["detail"] = self.secrets.text(told)
        attempt = Attempt(
            number=number,
            renewals=renewals,
            renewable=self.keys.renewable,
            given=given,
            offset=offset,
            **facts,
        )
        if self.clock is not None and response is not None and attempt.status in _SAYS_NO:
            attempt = _by_its_clock(attempt, self.clock, response)
        ended = Called(
            response=response,
            reason="",
            started=wall,
            seconds=self.steady() - start,
            attempts=number,
            sent_bytes=size,
            document=document,
        )
        return attempt, ended, key

    def _leaving(self, request: Request, turn: Start) -> Request:
        """Have it noted when the request leaves: by the transport if it can tell, or else now."""
        if getattr(self.transport, "reports_leaving", False):
            return replace(request, on_leaving=partial(self.gate.left, turn))
        self.gate.left(turn)
        return request


_SAYS_NO = (400, 401, 403)
"""What services answer to a signature that they do not accept."""


def _by_its_clock(attempt: Attempt, clock: ServiceClock, response: Response) -> Attempt:
    """Return a refused attempt with what the service's clock has to do with it."""
    if "date" not in response.headers:
        if clock.is_proved(attempt.offset):
            return attempt
        said = "it sends no Date, so that clocks cannot be compared"
    elif clock.corrected(response.headers, attempt.offset):
        ahead = clock.offset - attempt.offset
        side = "ahead of" if ahead > 0 else "behind"
        said = f"its clock is {abs(ahead):,.0f} s {side} the time that was signed"
        attempt = replace(attempt, skewed=True)
    else:
        return attempt
    return replace(attempt, detail=f"{attempt.detail}; {said}" if attempt.detail else said)


def _note(number: int, attempt: Attempt, step: Next) -> None:
    """Log an attempt that was not the end of it; what it says is covered already."""
    came = f"status {attempt.status}" if attempt.status else attempt.trouble
    what = f"attempt {number}: {came}{f' ({attempt.detail})' if attempt.detail else ''}"
    if isinstance(step, Again):
        who = "everybody waits" if step.everyone else "again after"
        told = "a while" if step.seconds is None else f"{step.seconds:.1f} s"
        _log.info("%s; %s %s", what, who, told)
    elif isinstance(step, Renew):
        anew = "signed anew by the service's time" if attempt.skewed else "the token is renewed"
        _log.info("%s; %s", what, anew)
    else:
        _log.info("%s; %s", what, step.reason if isinstance(step, Fail | Stop) else "")


_WITHOUT_WORDS = (202, 204)
_NEVER_LEFT = ("unusable", "unreachable")


def _is_refusal(step: Next) -> bool:
    return isinstance(step, Again) and step.everyone


def _facts(response: Response, opened: Callable[[bytes], Any]) -> tuple[dict[str, Any], Any]:
    """Return what an attempt is judged by, and what an accepted answer says."""
    facts: dict[str, Any] = {"status": response.status}
    if not 200 <= response.status < 300:
        facts["retry_after"] = response.headers.get("retry-after", "")
        facts["detail"] = words_of(response)
        return facts, None
    if response.fault:
        return {**facts, "trouble": "oversized", "detail": response.fault}, None
    if response.status in _WITHOUT_WORDS and not response.body.strip():
        return facts, None  # the head says it all
    try:
        return facts, opened(response.body)
    except AnswerError as error:
        kind = response.headers.get("content-type", "no content type").partition(";")[0]
        facts["trouble"] = "unreadable"
        what = error.message.partition(" (")[0].removeprefix("the answer is ")
        facts["detail"] = f"{what} but {kind[:80]}, {len(response.body):,} bytes"
        return facts, None


def _met(error: Exception, response: Response | None) -> dict[str, Any]:
    """Return what an error of ours, or of a package below, means for the call it met."""
    what = f"unexpected {type(error).__name__}"
    if response is None:
        return {"trouble": "cut", "detail": what}
    return {"status": response.status, "trouble": "oversized", "detail": what}


def words_of(response: Response) -> str:
    """Return what the service says is wrong, as short plain text.

    Parameters
    ----------
    response : Response
        For a body that is neither JSON nor plain text, only its media type is returned.
    """
    if elsewhere := response.headers.get("location", ""):
        return f"to {elsewhere.partition('?')[0][:_LONGEST_DETAIL]}"
    kind = response.headers.get("content-type", "").partition(";")[0]
    try:
        return said_by(from_json(response.body))
    except NotJSON:
        text = response.body[:_LONGEST_DETAIL].decode("utf-8", "replace").strip()
        plain = kind.strip().casefold() == "text/plain" and text
        return plain_text(" ".join(text.split())) if plain else f"({kind[:80] or 'no content'})"


def _not_made(reason: str, attempts: int, last: Called | None) -> Called:
    return Called(
        response=None,
        reason=reason,
        started=last.started if last else 0.0,
        seconds=last.seconds if last else 0.0,
        attempts=attempts,
        sent_bytes=last.sent_bytes if last else 0,
        pending=True,
        requests=last.requests if last else 0,
        money=last.money if last else 0.0,
    )
