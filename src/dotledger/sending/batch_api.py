"""Sending from Python, in one call."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any, Literal, TypedDict, Unpack

from dotledger.core.arguments import whole_number
from dotledger.errors import ArgumentError
from dotledger.images.image_gathering import Gathered, gather
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.send_progress import Progress, SentBatch
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.calls.http_transport import Transport
from dotledger.sending.calls.local_functions import Look, as_transport
from dotledger.sending.policies.pricing import has_price
from dotledger.sending.policies.send_plan import Plan, make_plan
from dotledger.services.credentials import find_key, find_signer, given_key
from dotledger.services.description_trust import check_trust
from dotledger.services.redaction import Key
from dotledger.services.request_building import RequestBuilder
from dotledger.services.request_signing import Signer
from dotledger.services.service_description import Description, read_description

if TYPE_CHECKING:
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.ledger.ledger_access import Ledger
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.single_image_service import OpenService

__all__ = ["SendOptions", "open_service", "prepare_sending", "send", "send_async"]

_AGAIN = ("failed", "refused", "anew")


class SendOptions(TypedDict, total=False):
    """What `send` and `send_async` take beside images, service and ledger; see `send`."""

    key: str | Key | Callable[[], str] | None
    settings: Mapping[str, str] | None
    kinds: str | Iterable[str] | None
    at_most: int | None
    budget: float | None
    again: str | Iterable[str]
    round: str
    transport: Transport | Look | None
    signer: Signer | None
    allow_code: bool
    tell: Callable[[Progress], None] | None


def prepare_sending(
    images: Any,
    service: Description | str | os.PathLike[str],
    ledger: Ledger | LedgerStore | str | os.PathLike[str],
    *,
    key: str | Key | Callable[[], str] | None = None,
    settings: Mapping[str, str] | None = None,
    kinds: str | Iterable[str] | None = None,
    at_most: int | None = None,
    budget: float | None = None,
    again: str | Iterable[str] = (),
    round: str = "",
    transport: Transport | Look | None = None,
    signer: Signer | None = None,
    allow_code: bool = False,
    tell: Callable[[Progress], None] | None = None,
) -> Sending:
    """Check everything and return a sending that is ready to run; see `send`.

    Parameters
    ----------
    images : object
        What `gather` takes.
    key : str, Key or callable, optional
        Instead of the sources of the description.
    kinds : str or iterable of str, optional
        Those wanted; None for all.
    budget : float, optional
        Money at most, in the currency of the description.
    signer : callable, optional
        Instead of the one the description names.
    allow_code : bool, default False
        Let code run that the description names.

    Raises
    ------
    DotLedgerError
        Whatever is wrong, before the first call.
    """
    from dotledger.ledger.ledger_access import store_of

    key = given_key(key)  # from here on no variable holds its text
    outcomes = (again,) if isinstance(again, str) else tuple(again)
    _check(at_most, outcomes)
    described = service if isinstance(service, Description) else read_description(service)
    described = described.with_settings(settings or {})
    _check_budget(budget, described)
    gathered = images if isinstance(images, Gathered) else gather(images)
    plan = make_plan(described, gathered, kinds=kinds, round=_checked_round(round))
    _check_requests(plan)
    given = signer if described.connect.signed_by_code else key
    check_trust(described, code=allow_code, asked=given is None, dry=transport is not None)
    found = find_key(described, given=key)
    way = as_transport(transport, described)
    means = Means(transport=way, signer=signer or find_signer(described), tell=tell)
    store = store_of(ledger)
    where = os.fspath(store) if isinstance(store, os.PathLike) else store
    return Sending(plan, where, found, means=means, at_most=at_most, budget=budget, again=outcomes)


def _check_requests(plan: Plan) -> None:
    """Refuse what no request can be built of before a ledger is made or opened for it."""
    for call, kinds in plan.calls:
        RequestBuilder(plan.description, call, kinds)


def _checked_round(name: str) -> str:
    if not isinstance(name, str) or len(name) > 100 or name != name.strip():
        raise ArgumentError(
            "a round has a short name",
            place="round",
            got=name,
            allowed=["up to 100 characters, no spaces around"],
        )
    return name


def _check(at_most: int | None, again: tuple[str, ...]) -> None:
    if at_most is not None:
        whole_number(at_most, place="at_most", least=1, most=2**53)
    for outcome in again:
        if outcome not in _AGAIN:
            raise ArgumentError(
                "only these outcomes are sent again", place="again", got=outcome, allowed=_AGAIN
            )


def _check_budget(budget: float | None, described: Description) -> None:
    if budget is None:
        return
    if not 0 <= budget < math.inf:
        raise ArgumentError("not an amount of money", place="budget", got=budget)
    if not has_price(described):
        raise ArgumentError(
            f"the description of {described.service} names no price, so that no budget can be kept",
            place="budget",
            got=budget,
            next_step="Add per_1000 and currency to its [price], or limit the calls (at_most).",
        )


def send(
    images: Any,
    service: Description | str | os.PathLike[str],
    *,
    ledger: Ledger | str | os.PathLike[str],
    key: str | Key | Callable[[], str] | None = None,
    settings: Mapping[str, str] | None = None,
    kinds: str | Iterable[str] | None = None,
    at_most: int | None = None,
    budget: float | None = None,
    again: str | Iterable[str] = (),
    round: str = "",
    transport: Transport | Look | None = None,
    signer: Signer | None = None,
    allow_code: bool = False,
    tell: Callable[[Progress], None] | None = None,
) -> SentBatch:
    """Send images to a service and write every answer into a ledger.

    What the ledger already holds for the same images and settings is not sent again, so a
    second call, or one after a crash, only sends what is missing. Works in scripts, in
    notebooks (inside a running event loop) and in threads.

    Parameters
    ----------
    images : path, str, mapping, iterable of those, or Gathered
        Everything that `gather` takes.
    service : Description or path
        The service's description, or its file.
    ledger : Ledger, path or str
        Made if there is none.
    key : str or callable, optional
        Instead of the sources that the description names.
    settings : mapping, optional
        Values for the description's named settings.
    kinds : str or iterable of str, optional
        By default every kind the service serves.
    at_most : int, optional
        Most requests to make; the rest stays pending. A request that has to be made again
        counts again, unless it was refused because of the rate.
    budget : float, optional
        Most money to spend, in the description's currency; the rest stays pending. Every
        request counts as in `at_most`: a service may charge for an answer that got lost.
    again : str or iterable of str
        Outcomes to send again: ``"failed"``, ``"refused"``. A job that the service has accepted is
        asked for again, at no cost; ``"anew"`` sends what failed as new jobs, and pays again.
    round : str, default ""
        Ask again under this name, and pay again: a new set of answers for the same images and
        settings, kept next to the earlier one. A hosted model changes under its users.
    transport : Transport or callable, optional
        Instead of HTTP; see `dotledger.testing`. A function, such as a model on this machine,
        takes an image's bytes, as prepared, and the settings, and returns plain data.
    signer : callable, optional
        Given the finished `Request`, returns headers to add.
    allow_code : bool, default False
        Let code run that the description names as a key source; remembered for that code as it is.
    tell : callable, optional
        Called with a `Progress` a few times a second.

    Returns
    -------
    SentBatch
        One bad image or answer never raises; it is counted there by outcome.

    Raises
    ------
    DescriptionError, GatherError, ArgumentError, KeyNotFound
        Before anything is sent.
    LedgerError
        If the ledger cannot be written.
    KeyboardInterrupt
        After Ctrl-C, when the calls under way have ended and everything is committed; a second
        one waits for nothing.

    Examples
    --------
    >>> import dotledger
    >>> sent = dotledger.send("photos", "myservice.toml", ledger="photos.ledger")
    >>> sent.resumed, sent.calls  # everything was answered before
    (True, 0)
    """
    key = given_key(key)
    sending = prepare_sending(
        images,
        service,
        ledger,
        key=key,
        settings=settings,
        kinds=kinds,
        at_most=at_most,
        budget=budget,
        again=again,
        round=round,
        transport=transport,
        signer=signer,
        allow_code=allow_code,
        tell=tell,
    )
    sent = sending.run()
    if sending.interrupted:
        raise KeyboardInterrupt(f"{sent.pending} outcomes are pending; what came is in the ledger")
    return sent


def open_service(
    description: Description | str | os.PathLike[str],
    ledger: Ledger | str | os.PathLike[str] | None = None,
    *,
    rules: Rules | str | os.PathLike[str] | None = None,
    key: str | Key | Callable[[], str] | None = None,
    settings: Mapping[str, str] | None = None,
    kinds: str | Iterable[str] | None = None,
    round: str = "",
    attempts: int = 2,
    before: bool = False,
    batch_per: Literal["day", "session"] = "day",
    transport: Transport | Look | None = None,
    signer: Signer | None = None,
    allow_code: bool = False,
) -> OpenService:
    """Open a service for a running program that asks about one image at a time.

    Connections, key, token and pace are kept and shared by all threads that ask. When the service
    fails the caller gets an outcome and, with rules, a verdict that never passes; no exception.

    Parameters
    ----------
    description : Description or path
        The service's description, or its file.
    ledger : Ledger, path or str, optional
        Asked first, so that the same bytes are not paid for twice. Made if there is none.
    before : bool, default False
        Each answer is in the ledger before `look` returns. Else it is written behind it, within a
        twentieth of a second, many together: that takes less, and a process that is killed may
        lose those.
    batch_per : {"day", "session"}, default "day"
        What shares a batch of the ledger: all that is asked with the same settings on one day
        (UTC), by any process, or one session alone. In the ledger, the second image of a name in
        a batch is called ``NAME (2)``, so that findings of two images never count as one's.
    rules : Rules or path, optional
        For verdicts; see `decide`. An unsafe category that they do not mention holds.
    key, settings, kinds, round, transport, signer, allow_code
        As `send` takes them.
    attempts : int, default 2
        For one image, where the service or the line fails: somebody is waiting.

    Returns
    -------
    OpenService
        To be used in a ``with``, or closed.

    Raises
    ------
    DescriptionError, ArgumentError, KeyNotFound
        Before anything is sent.
    LedgerError
        If the ledger cannot be written.

    Examples
    --------
    >>> import dotledger
    >>> with dotledger.open_service("myservice.toml", ledger="photos.ledger") as service:
    ...     seen = service.look("photos/walk-02.jpg")
    >>> seen.outcome, sorted(seen.outcomes), seen.paid  # the ledger knew it
    ('found', ['face', 'label', 'object', 'unsafe'], False)
    """
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.formats.rules_files import read_rules
    from dotledger.ledger.ledger_access import store_of
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.policies.retrying import Patience
    from dotledger.sending.single_image_service import OpenService

    key = given_key(key)
    described = (
        description if isinstance(description, Description) else read_description(description)
    ).with_settings(settings or {})
    nothing = Gathered(items=(), problems=(), source="")
    plan = make_plan(described, nothing, kinds=kinds, round=_checked_round(round))
    _check_requests(plan)
    check_trust(
        described,
        code=allow_code,
        asked=(signer if described.connect.signed_by_code else key) is None,
        dry=transport is not None,
    )
    tries = whole_number(attempts, place="attempts", least=1, most=100)
    store = store_of(ledger)
    given_open = store is None or isinstance(store, LedgerStore)
    if batch_per not in ("day", "session"):
        raise ArgumentError(
            "no such way", place="batch_per", got=batch_per, allowed=("day", "session")
        )
    return OpenService(
        plan,
        find_key(described, given=key),
        find=lambda: find_key(described, given=key),
        batch_per=batch_per,
        means=Means(
            transport=as_transport(transport, described),
            signer=signer or find_signer(described),
            patience=Patience(attempts=tries, connections=tries, refusals=tries),
        ),
        ledger=store if given_open else LedgerStore(store),
        close_ledger=not given_open,
        before=before,
        rules=rules if isinstance(rules, Rules) or rules is None else read_rules(rules),
    )


async def send_async(
    images: Any,
    service: Description | str | os.PathLike[str],
    *,
    ledger: Ledger | str | os.PathLike[str],
    **options: Unpack[SendOptions],
) -> SentBatch:
    """Send from an async program without blocking its event loop; see `send`.

    The same threads and the same deciding code do the work. If the task is cancelled, calls
    under way end, everything is committed, and the rest stays pending.

    Parameters
    ----------
    images, service, ledger, **options
        As `send` takes them; see `SendOptions`.

    Returns
    -------
    SentBatch
        As `send` returns it.

    Raises
    ------
    DescriptionError, GatherError, ArgumentError, KeyNotFound, LedgerError
        As `send` does.

    Examples
    --------
    >>> import asyncio, dotledger
    >>> job = dotledger.send_async("photos", "myservice.toml", ledger="photos.ledger")
    >>> asyncio.run(job).calls
    0
    """
    import asyncio

    sending = await asyncio.to_thread(prepare_sending, images, service, ledger, **options)
    running = asyncio.ensure_future(asyncio.to_thread(sending.run))
    try:
        return await asyncio.shield(running)
    except asyncio.CancelledError:
        sending.stop("cancelled")
        await asyncio.wait([running])
        raise
