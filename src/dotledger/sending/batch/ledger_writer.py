"""The desk: the one place that writes while a batch is being sent."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from dotledger.core.spelling import counted, first_of
from dotledger.errors import LedgerError
from dotledger.ledger.answer_queries import answers_kept
from dotledger.ledger.batch_queries import find_batch, left_out, outcome_counts, unread_images
from dotledger.ledger.ledger_records import BatchOpening, CallRecord, ItemRecord, OutcomeRecord
from dotledger.ledger.ledger_store import LedgerStore, in_parts
from dotledger.ledger.ledger_writing import BatchWriter
from dotledger.ledger.sender_claims import Claim, WaitingAnswer
from dotledger.sending.batch.send_log import found_in, note_kept, note_not_asked
from dotledger.sending.batch.send_progress import Progress, SentBatch
from dotledger.sending.batch.send_worker import LoadedImage, Settled, Worker, half_of
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.policies.conditional_calls import fate_of
from dotledger.sending.policies.send_plan import Plan

if TYPE_CHECKING:
    from dotledger.sending.batch.cooperating_senders import Together
    from dotledger.sending.batch.sending_dependencies import Means

__all__ = ["Desk"]

_WRITE_AT = 250
_WRITE_EVERY = 0.15
_SEEN_EVERY = 5.0


class Desk:
    """Collects what workers bring and writes it into the ledger, many at a time.

    Attributes
    ----------
    settled : dict of int to dict of str to str
        What earlier sendings of the same batch wrote: by position, then kind. The outcomes are
        empty where they were not asked for.
    """

    def __init__(
        self,
        *,
        plan: Plan,
        ledger: LedgerStore,
        opening: BatchOpening,
        worker: Worker,
        means: Means,
        gate: CallGate,
        claim: Claim,
        began: float,
        outcomes: bool,
    ) -> None:
        self._plan = plan
        self._ledger = ledger
        self._claim = claim
        self._writer = BatchWriter(ledger, opening, means.wall())
        self._means = means
        if claim.waiting():
            self.adopt(claim)
        self._reader = worker.reader()
        self._gate = gate
        known = self._writer.settled() if outcomes else self._writer.settled_kinds(plan.kinds)
        self.settled = known
        self._opened = False
        self._records: list[ItemRecord] = []
        self._halves: list[ItemRecord] = []
        self._loose: list[Any] = []
        self._lookups: list[tuple[LoadedImage, tuple[str, ...]]] = []
        self._broken: dict[str, list[OutcomeRecord]] = {}
        self._began = began  # the first calls may have left before the ledger was open
        self._wrote = self._seen = means.steady()
        self._calls: set[int] = set()
        self._aside: list[int] = []
        self._call_count = 0
        self._money = 0.0
        self._reused = 0
        self._counts: Counter[str] = Counter()
        self._earlier = len(self.settled)
        self._resumed = self._writer.resumed
        self._together: Together | None = None
        self._forget = worker.forget

    @property
    def batch(self) -> int:
        """The batch's number in the ledger."""
        return self._writer.batch

    def share_with(self, together: Together) -> None:
        """Send only a part of the batch, with others; all images are written down before."""
        self._together = together
        self._writer.resumed = True  # whoever had an image before us may have written it
        self._writer.booked = together.booked
        if self._writer.adopted:
            with self._ledger.writing() as connection:
                together.booked(connection, self._writer.adopted, False)
        self.open_items()

    def adopt(self, claim: Claim) -> None:
        """Take in what another sender had put aside."""
        self._writer.take_in(claim.set_aside(), self._means.wall())
        claim.taken_in()

    def open_items(self) -> None:
        """Write down which images the batch has, once; the first calls are under way by then."""
        if not self._opened:
            self._writer.add_items()
            self._opened = True

    def take(self, result: Settled) -> None:
        """Take over what one worker brought."""
        for record in result.done:
            self._keep(record)
        self._loose += result.loose
        for call in result.loose:
            self._charge(call)
        self._aside += [call.aside for call in result.loose if call.aside >= 0]
        for half in result.halves:
            self._note_calls(call for _, call, _ in half.answered)
        self._halves += result.halves
        self._lookups += result.lookups
        if self._together is not None:
            looked_up = [one.record for one, _ in result.lookups]
            given = [*result.done, *result.halves, *looked_up]
            self._together.handed_over([record.position for record in given])

    def _keep(self, record: ItemRecord) -> None:
        self._records.append(record)
        worst = {outcome.outcome for outcome in record.outcomes}
        self._counts["failed"] += "failed" in worst
        self._counts["refused"] += "refused" in worst
        self._counts["done"] += record.position not in self.settled
        if "failed" in worst and record.image:
            failed = [o for o in record.outcomes if o.outcome == "failed"]
            self._broken[record.image.sha] = self._broken["sent " + record.asked] = failed
        self._note_calls(o.call for o in record.outcomes if o.call)

    def _note_calls(self, calls: Iterable[CallRecord]) -> None:
        for call in calls:
            if id(call) not in self._calls:
                self._calls.add(id(call))
                self._aside += [call.aside] if call.aside >= 0 else []
                self._charge(call)

    def _charge(self, call: CallRecord) -> None:
        self._call_count += call.requests
        self._money += call.price

    def maybe_write(self) -> None:
        """Write if enough has gathered or enough time has passed."""
        now = self._means.steady()
        if now - self._seen >= _SEEN_EVERY:
            self._writer.still_here(self._means.wall())
            self._claim.renew()
            self._seen = now
        if len(self._records) >= _WRITE_AT or now - self._wrote >= _WRITE_EVERY:
            self.write()
            self._wrote = now

    def write(self) -> None:
        """Write what has gathered, then settle images that were answered elsewhere."""
        self._ask_for_claim()
        self.open_items()
        self._write_records()
        self._look_up()

    def _ask_for_claim(self) -> None:
        """Stop where somebody else may be sending too; what came is written all the same."""
        if self._together is not None:
            self._together.find_out()
        if not self._gate.stop_reason and not self._claim.held():
            self._writer.resumed = self._resumed = True
            self._gate.stop("the claim on the ledger was lost: somebody else may be sending now")

    def rescued(self, error: LedgerError) -> LedgerError:
        """Keep next to the ledger what it does not take; return the error that says where."""
        lost: list[str] = []
        kept = 0
        safe = self._claim.safe()
        for answer, images in self._unwritten():
            try:
                if answer.call.aside < 0 or not safe:
                    self._claim.put_aside(answer)
                kept += safe
                lost += [] if safe else images
            except Exception:  # whatever it is, the others still have a chance
                lost += images
        said = [error.next_step] if error.next_step else []
        if kept:
            where = self._claim.path
            said.append(f"{counted(kept, 'answer')} wait in {where} until you send again.")
        if lost:
            said.append(f"Answers lost, to be paid for again: {first_of(lost, 20)}.")
        return LedgerError(error.message, place=error.place, next_step=" ".join(said), lost=lost)

    def _unwritten(self) -> list[tuple[WaitingAnswer, list[str]]]:
        """Return the calls that are not in the ledger, each with the names of its images."""
        items = self._plan.gathered.items
        calls: dict[int, tuple[WaitingAnswer, list[str]]] = {}
        unwritten = [*self._records, *self._halves, *(one.record for one, _ in self._lookups)]
        for record in unwritten:
            places = {id(call): place for _, call, place in record.answered}
            made = [call for _, call, _ in record.answered]
            made += [o.call for o in record.outcomes if o.call]
            for call in {id(call): call for call in made}.values():
                if call.id or record.image is None:
                    continue
                answer = WaitingAnswer(call=call, images=[], answered=id(call) in places)
                answer, names = calls.setdefault(id(call), (answer, []))
                answer.images.insert(places.get(id(call), len(answer.images)), record.image)
                names.append(items[record.position].name)
        loose = [
            (WaitingAnswer(call=call, images=[], answered=False), list[str]())
            for call in self._loose
            if not call.id
        ]
        return [*calls.values(), *loose]

    def _write_records(self) -> None:
        self._writer.write([*self._records, *self._halves], self._loose)
        self._claim.committed(self._aside)
        written = [record.position for record in self._records]
        self._records, self._halves, self._loose = [], [], []
        self._calls, self._aside = set(), []
        if self._together is not None and written:  # whatever comes of it, they are in the ledger
            self._together.written(written)

    def _look_up(self) -> None:
        """Settle images whose answer is in the ledger by now."""
        waiting, self._lookups = self._lookups, []
        for part in in_parts(waiting, _WRITE_AT):
            self._settle(part)
            self._write_records()
        if self._together is not None and self._lookups:
            self._ask_ourselves(self._together)

    def _ask_ourselves(self, together: Together) -> None:
        """Give images back to our workers whose answer nobody is asking for any more.

        Whoever asked for them failed, was stopped, or is gone. An answer that came in this very
        moment is found when the image is looked at again.
        """
        pairs = {(name, one.asked) for one, names in self._lookups for name in names}
        asked = together.still_asked(pairs)
        waiting, self._lookups = self._lookups, []
        for one, names in waiting:
            if any((name, one.asked) in asked for name in names):
                self._lookups.append((one, names))
                continue
            if one.record.answered:
                self._halves.append(half_of(one.record))
            self._forget(one, names)
            together.again(one.record.position)

    def _settle(self, waiting: Sequence[tuple[LoadedImage, tuple[str, ...]]]) -> None:
        stored = {
            name: self._stored(name, [one for one, names in waiting if name in names])
            for name in {name for _, names in waiting for name in names}
        }
        for one, names in waiting:
            broken = self._broken_of(one) is not None
            missing = {n for n in names if one.sha not in stored[n] and not broken}
            if any(self._may_come(one, name, stored) for name in missing):
                self._lookups.append((one, names))
                continue
            for name in names:
                self._reuse(one, name, stored[name].get(one.sha))
            self._reused += 1
            self._keep(one.record)

    def _stored(self, name: str, images: Sequence[LoadedImage]) -> dict[str, Any]:
        asked = {one.sha: one.asked for one in images}
        return answers_kept(self._ledger, self._plan, name, asked)

    def _reuse(self, one: LoadedImage, name: str, stored: Any) -> None:
        call, kinds = next((c, kinds) for c, kinds in self._plan.calls if c.name == name)
        if stored is None and call.only_if is not None:
            fate = fate_of(call.only_if, *found_in(one.record))
            if fate in ("skip", "fail"):
                note_not_asked(one.record, call, kinds, fate)
                return
        if stored is None:
            one.record.outcomes += [
                OutcomeRecord(kind=o.kind, outcome=o.outcome, reason=o.reason, call=o.call)
                for o in self._broken_of(one) or ()
                if o.kind in kinds
            ]
            return
        if stored.fingerprint != self._plan.fingerprint:
            one.record.known.append((name, stored.call_id, stored.place))
        note_kept(one.record, stored, name, kinds, one.frame, self._reader)

    def _broken_of(self, one: LoadedImage) -> list[OutcomeRecord] | None:
        """Return how the same bytes failed in this sending; None if they did not."""
        return self._broken.get(one.sha) or self._broken.get("sent " + one.asked)

    def _may_come(
        self, one: LoadedImage, name: str, stored: Mapping[str, Mapping[str, Any]]
    ) -> bool:
        """Tell whether a missing answer may still come, or its call was left out."""
        only_if = next(call.only_if for call, _ in self._plan.calls if call.name == name)
        if only_if is None:
            return True
        record = ItemRecord(position=0)
        before, kinds = next(
            (c.name, kinds) for c, kinds in self._plan.calls if only_if.kind in kinds
        )
        kept = stored.get(before, {}).get(one.sha)
        if kept is None:
            return self._may_come(one, before, stored)
        note_kept(record, kept, before, kinds, one.frame, self._reader)
        return fate_of(only_if, *found_in(record)) == "ask"

    def progress(self) -> Progress:
        """Return how far the sending is."""
        done = self._earlier + self._counts["done"]
        by_all = self._together.settled if self._together is not None else 0
        return Progress(
            images=len(self._plan.gathered),
            done=max(done, by_all),
            earlier=self._earlier,
            failed=self._counts["failed"],
            refused=self._counts["refused"],
            calls=self._call_count,
            money=self._money,
            currency=self._plan.description.price.currency,
            seconds=self._means.steady() - self._began,
        )

    def close(self) -> SentBatch:
        """Write the rest and return what the sending came to."""
        self.write()
        batch = find_batch(self._ledger, batch=self._writer.batch)
        outcomes = outcome_counts(self._ledger, batch)
        pending = any(row["pending"] for row in outcomes.values())
        limit = "" if self._gate.stop_reason else self._gate.pace.budget_reason
        reason = (self._gate.stop_reason or limit or self._gate.waits_for) if pending else ""
        idle = not (self._call_count or self._counts["done"])
        others = self._together is not None and self._together.end(whole=True)
        if not others:  # the last one closes the batch
            self._writer.close(self._means.wall(), reason, idle=idle)
        return SentBatch(
            batch=batch.id,
            service=batch.service,
            images=batch.images,
            outcomes=outcomes,
            calls=self._call_count,
            reused=self._reused,
            unread=unread_images(self._ledger, batch),
            not_asked=left_out(self._ledger, batch),
            refusals=self._gate.refusals,
            money=self._money,
            currency=batch.currency,
            seconds=self._means.steady() - self._began,
            stopped_because=reason,
            at_limit=bool(reason and limit),
            resumed=self._resumed,
            shared=self._together.most if self._together is not None else 0,
        )
