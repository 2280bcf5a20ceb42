"""What a sending works with; every part can be replaced."""

from __future__ import annotations

import random as random_module
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from msgspec import Struct, field

from dotledger.sending.batch.send_progress import Progress
from dotledger.sending.calls.http_transport import Transport
from dotledger.sending.policies.retrying import Patience
from dotledger.services.request_signing import Signer

if TYPE_CHECKING:
    pass

__all__ = ["Means", "steady_seconds"]


def steady_seconds() -> float:
    """Return seconds of a clock that nobody sets, and that goes on while the machine sleeps.

    What others hold for us runs out while we sleep; Linux's usual steady clock stands still then.
    """
    boot = getattr(time, "CLOCK_BOOTTIME", None)
    return time.monotonic() if boot is None else time.clock_gettime(boot)


class Means(Struct, frozen=True, kw_only=True):
    """What a sending works with; every one can be replaced.

    Attributes
    ----------
    transport : Transport, optional
        By default HTTP.
    signer : callable, optional
        For services that sign each request.
    steady, wall : callable
        Seconds of a steady clock, and since 1970.
    random : callable
        A number from 0 to 1, for jitter.
    sleep : callable, optional
        By default a wait that ends early when the batch is stopped.
    patience : Patience
        How long to go on.
    tell : callable, optional
        Called with a `Progress` a few times a second.
    """

    transport: Transport | None = None
    signer: Signer | None = None
    steady: Callable[[], float] = steady_seconds
    wall: Callable[[], float] = time.time
    random: Callable[[], float] = random_module.random
    sleep: Callable[[float], None] | None = None
    patience: Patience = field(default_factory=Patience)
    tell: Callable[[Progress], None] | None = None
