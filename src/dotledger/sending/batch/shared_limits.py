"""How many calls are allowed, and refusals before the first one."""

from __future__ import annotations

from pathlib import Path

from dotledger.core.spelling import counted
from dotledger.errors import LedgerError
from dotledger.ledger.ledger_records import BatchOpening
from dotledger.ledger.sender_claims import FileClaim, Turn, claim_path
from dotledger.sending.policies.send_plan import Plan

__all__ = [
    "TOO_SILENT",
    "allowance",
    "calls_reached",
    "file_claim",
    "file_turn",
    "is_new",
    "make_empty",
    "quota_reached",
    "waiting_aside",
]

TOO_SILENT = (
    "the server heard nothing from this process for some seconds, and gave its images to others"
)
"""Why such a process starts no call; `Sending.run` then takes its place among the senders anew."""


def allowance(plan: Plan, at_most: int | None, used_this_month: int) -> tuple[int | None, str]:
    """Return how many calls are allowed, and which limit says so.

    Parameters
    ----------
    plan : Plan
        With limits. A budget of money is kept by the `Meter`.
    used_this_month : int
        Requests, for a quota by month.

    Returns
    -------
    tuple of int or None, and str
        None for no limit, with an empty text.
    """
    limits = []
    if at_most is not None:
        limits.append((at_most, calls_reached(at_most)))
    if (quota := plan.description.limits.per_month) is not None:
        left = max(0, quota - used_this_month)
        limits.append((left, quota_reached(quota)))
    return min(limits, default=(None, ""))


def calls_reached(at_most: int) -> str:
    """Return the reason to stop once the calls that the user allowed are made."""
    return f"the limit of {at_most} calls is reached"


def quota_reached(quota: int) -> str:
    """Return the reason to stop once the monthly quota is used up."""
    return f"the monthly quota of {quota} calls is used up"


def file_turn(path: Path, service: str) -> Turn:
    """Return the turn to send to a service with a ledger that is a file.

    Raises
    ------
    BlockingIOError
        If another process has it.
    LedgerError
        If the place is a folder, or cannot be written.
    """
    _refuse_folder(path)
    return Turn(path, service)


def file_claim(path: Path, opening: BatchOpening) -> FileClaim:
    """Return the claim on a ledger that is a file; raises LedgerError where none can be.

    Raises
    ------
    LedgerError
        If the place is a folder, or cannot be looked at.
    """
    _refuse_folder(path)
    return FileClaim(claim_path(path, opening.fingerprint), opening)


def _refuse_folder(path: Path) -> None:
    try:
        folder = path.is_dir() or (path.exists() and not path.is_file())
    except OSError as error:
        raise _not_writable(path, error) from error
    if folder:
        raise LedgerError("not a file", place=str(path), next_step="Name a file.")


def is_new(path: Path) -> bool:
    """Tell whether a ledger is still to be made, so that it holds no answer.

    Returns
    -------
    bool
        True for an empty file too.
    """
    return not path.exists() or path.stat().st_size == 0


def make_empty(path: Path) -> None:
    """Make the file, so that it is known to be possible before anything is paid for.

    Parameters
    ----------
    path : Path
        The ledger; one that is there stays as it is.

    Raises
    ------
    LedgerError
        If it cannot be written.
    """
    try:
        path.open("ab").close()
    except OSError as error:
        raise _not_writable(path, error) from error


def _not_writable(path: Path, error: OSError) -> LedgerError:
    return LedgerError(
        f"the ledger cannot be written ({error.strerror})",
        place=str(path),
        next_step="Check the name, and the permissions of its folder.",
    )


def waiting_aside(error: LedgerError, count: int, where: Path) -> LedgerError:
    """Return an error that also says where the answers are that came before it.

    Parameters
    ----------
    count : int
        Answers, 1 or more.
    where : Path
        The file next to the ledger.

    Returns
    -------
    LedgerError
        To be raised in its place.
    """
    step = f"{error.next_step} {counted(count, 'answer')} wait in {where} until you send again."
    return LedgerError(error.message, place=error.place, next_step=step.strip(), lost=[])
