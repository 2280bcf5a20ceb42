"""For your own tests: a transport that answers without a network, a clock you move, and gates."""

from __future__ import annotations

import os
import threading
import unittest
from collections.abc import Callable, Sequence
from typing import Any

from dotledger.json_codec import to_json
from dotledger.sending.calls.http_transport import NoAnswer, Response
from dotledger.services.message_rules import Request

__all__ = [
    "FakeClock",
    "FakeTransport",
    "GateAssertions",
    "NoAnswer",
    "Request",
    "Response",
    "answer",
]

Reply = Response | NoAnswer | dict[str, Any]


def answer(content: Any, status: int = 200, **headers: str) -> Response:
    """Return a response that holds `content` as JSON; header names take ``_`` for ``-``.

    Parameters
    ----------
    content : object
        Plain values, sent as JSON.
    status : int, default 200
        HTTP status of the answer.
    headers : str
        Further headers of the answer.

    Returns
    -------
    Response
        As `FakeTransport` or your own function gives it back.
    """
    named = {name.replace("_", "-").lower(): value for name, value in headers.items()}
    return Response(
        status=status,
        headers={"content-type": "application/json", **named},
        body=to_json(content),
    )


class FakeTransport:
    """Answers requests from a function, or from a list of replies in turn.

    Parameters
    ----------
    replies : callable or sequence
        A function from a `Request` to a reply, or replies of which the last is repeated. A
        reply is a `Response`, a `NoAnswer` to raise, or a dict to answer as JSON.

    Attributes
    ----------
    requests : list of Request
        What was sent, in the order of arrival.
    """

    def __init__(self, replies: Callable[[Request], Reply] | Sequence[Reply]) -> None:
        self._replies = replies
        self._lock = threading.Lock()
        self.requests: list[Request] = []

    def send(self, request: Request) -> Response:
        """Return the next reply; raises it if it is a `NoAnswer`."""
        with self._lock:
            self.requests.append(request)
            number = len(self.requests) - 1
        reply = self._reply(request, number)
        if isinstance(reply, NoAnswer):
            raise reply
        return reply if isinstance(reply, Response) else answer(reply)

    def _reply(self, request: Request, number: int) -> Reply:
        if callable(self._replies):
            return self._replies(request)
        return self._replies[min(number, len(self._replies) - 1)]


class FakeClock:
    """A clock that stands still until it is told to move; sleeping moves it.

    Attributes
    ----------
    now : float
        Seconds.
    slept : list of float
        Every sleep asked for.
    """

    def __init__(self, now: float = 0.0) -> None:
        self.now = now
        self.slept: list[float] = []

    def __call__(self) -> float:
        """Return the time."""
        return self.now

    def sleep(self, seconds: float) -> None:
        """Move the clock by `seconds` at once."""
        self.slept.append(seconds)
        self.now += seconds


class GateAssertions(unittest.TestCase):
    """Gates and expectations inside your own test suite: one failure a gate, each with its reason.

    Examples
    --------
    >>> class Release(GateAssertions):
    ...     def test_release(self):
    ...         self.assert_gates_hold("found.csv", "truth.csv", "gates.toml")
    """

    def assert_gates_hold(
        self, findings: Any, annotations: Any, gates: str | os.PathLike[str], **options: Any
    ) -> None:
        """Fail for each gate that does not hold.

        Parameters
        ----------
        findings, annotations
            As `dotledger.check_gates` takes them.
        gates : path
            The file of the gates.
        **options
            Other arguments of `check_gates`.
        """
        from dotledger.api.choosing import check_gates

        for one in check_gates(findings, annotations, gates, **options).judged:
            with self.subTest(gate=one.gate.title, of=one.of):
                if not one.holds:
                    self.fail(one.why)

    def assert_expected(
        self, expectations: Any, findings: Any, *, threshold: Any = None, rules: Any = None
    ) -> None:
        """Fail for each image in which something else came out.

        Parameters
        ----------
        expectations : path or iterable of Expectation
            What must come out.
        findings : Findings or path
            The findings to check.
        threshold : threshold, optional
            As `dotledger.measure` takes it.
        rules : Rules or path, optional
            Where a verdict is expected; as `dotledger.decide` takes it.
        """
        from dotledger.core.comparison.expectations import unmet_expectations
        from dotledger.formats.gates_files import read_expectations
        from dotledger.formats.tables.findings_files import read_findings

        is_path = isinstance(expectations, str | os.PathLike)
        wanted = read_expectations(expectations) if is_path else expectations
        found = read_findings(findings) if isinstance(findings, str | os.PathLike) else findings
        verdicts = None
        if rules is not None:
            from dotledger.api.choosing import decide

            verdicts = {one.image: one.verdict for one in decide(found, rules)}
        for one in unmet_expectations(found, wanted, threshold=threshold, verdicts=verdicts):
            with self.subTest(image=one.expectation.image, expected=one.expectation.what):
                self.fail(one.message)
