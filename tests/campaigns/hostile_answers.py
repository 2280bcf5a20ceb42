"""Answers that no service should give: deep, huge, squeezed, cut, of other types, in other letters."""

import gzip
import json
import random
import tempfile
import zlib
from functools import lru_cache
from pathlib import Path

import numpy as np

from dotledger import findings_of, gather
from dotledger.core.tables.findings_table import Findings
from dotledger.ledger.batch_queries import find_batch, outcome_counts
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.policies.retrying import Patience
from dotledger.sending.policies.send_plan import make_plan
from dotledger.services.redaction import Key
from dotledger.testing import FakeTransport, NoAnswer, Response
from tests.sending.helpers import ANSWER, description, number_of, picture

SERVICE = description(
    (
        'label = "name"\nconfidence = { at = "sure" }',
        'label = "name"\nparents = "up"\npoints = { at = "eyes" }\nconfidence = { at = "sure" }\n'
        'lookup = { table = "names[]" }\nattributes.mood = { at = "mood", type = "shares" }\n'
        'attributes.age = { at = "age", type = "range" }',
    ),
    ("[[read]]", '[envelope]\nerror = "error"\nwidth = "w"\nheight = "h"\n[[read]]'),
    ("at_once = 4", "at_once = 2\nfindings = 50"),
)
LEAVES = (
    None, True, False, 0, -1, 1, 0.5, 1e308, -1e308, 1.7e308, 5e-324, 2**63, 2**64, 10**40, "", " ",
    "0.5", "87,5 %", "NaN", "inf", "-inf", "1e999", "\x00", "a\x00b", "\x1b[2J", "\u202e", "\ud800",
    "=1+1", "x" * 20_000, [], {}, [[]], {"": {}}, "²", "٣", "night", "bell",
)  # fmt: skip
NAMES = ("tags", "things", "names", "name", "id", "sure", "box", "eyes", "up", "mood", "age",
         "error", "w", "h", "x", "y", "low", "high", "status", "")  # fmt: skip
STATUSES = (200, 200, 200, 200, 200, 200, 201, 202, 204, 206, 400, 413, 422, 500)


def value(rng, depth=0):
    """A random value; its lists and objects are small, and now and then very deep."""
    roll = rng.random()
    if roll < 0.02:
        deep = rng.choice((60, 300, 990, 1023))
        return json.loads("[" * deep + "]" * deep)
    if depth > 4 or roll < 0.5:
        return rng.choice(LEAVES)
    size = rng.choice((0, 1, 1, 2, 4))
    if roll < 0.75:
        return [value(rng, depth + 1) for _ in range(size)]
    return {rng.choice(NAMES): value(rng, depth + 1) for _ in range(size)}


def spoilt(rng):
    """The right answer with some of its parts replaced."""
    answer = json.loads(json.dumps({**ANSWER, "names": [{"id": "bell", "name": "bell"}]}))
    for _ in range(rng.randint(1, 3)):
        part = answer
        while True:
            key = rng.choice(list(part) if isinstance(part, dict) else range(len(part)))
            inner = part[key]
            if not isinstance(inner, (dict, list)) or not inner or rng.random() < 0.35:
                part[key] = value(rng, 2)
                break
            part = inner
    return answer


def body(rng):
    """The bytes of one answer, most of them JSON."""
    made = spoilt(rng) if rng.random() < 0.6 else value(rng)
    try:
        data = json.dumps(made, ensure_ascii=rng.random() < 0.5).encode("utf-8", "surrogatepass")
    except (RecursionError, ValueError):
        data = b"[" * 990 + b"]" * 990
    roll = rng.random()
    if roll < 0.1:
        return data[: rng.randrange(len(data) + 1)]
    if roll < 0.2:
        changed = bytearray(data or b" ")
        for _ in range(rng.randint(1, 8)):
            changed[rng.randrange(len(changed))] = rng.randrange(256)
        return bytes(changed)
    if roll < 0.22:
        return rng.choice((b"", b"\xff\xfe", b"<html>", b"null", b"NaN", b"[" * 5000, b"1" * 5000))
    return data


def headers(rng):
    """Headers, some of which ask for waits that are none."""
    return {
        "content-type": rng.choice(("application/json", "text/html; \x1b[1m", "", "a" * 300)),
        "retry-after": rng.choice(("0", "²", "soon", "-1", "1e9", "Mon, 99 Foo", "9" * 400)),
        "location": rng.choice(("", "http://x/?key=1", "\x00")),
    }


def reply(rng):
    """One response, or none."""
    if rng.random() < 0.02:
        return NoAnswer("cut")
    status = rng.choice(STATUSES)
    fault = "longer than 9 bytes; the beginning is kept" if rng.random() < 0.02 else ""
    return Response(status=status, headers=headers(rng), body=body(rng), fault=fault)


def attack(tries, seed=0, at_once=500):
    """Send images whose answers are hostile; return (tries, failures by what went wrong)."""
    wrong = {}
    for start in range(0, tries, at_once):
        count = min(at_once, tries - start)
        for fault in _one_batch(count, seed + start):
            wrong[fault] = wrong.get(fault, 0) + 1
    return tries, wrong


def _one_batch(count, seed):
    images = {f"p-{number}": picture(number) for number in range(count)}
    rngs = {number: random.Random(f"{seed}-{number}") for number in range(count)}
    sane = {"status": 200, "headers": {}, "body": json.dumps(ANSWER).encode()}

    def answered(request):
        number = number_of(request)
        # Every third is sound: otherwise the batch would rightly stop after twenty failures.
        return Response(**sane) if number % 3 == 0 else reply(rngs[number])

    with tempfile.TemporaryDirectory() as home:
        path = Path(home) / "l"
        means = Means(
            transport=FakeTransport(answered),
            sleep=lambda _: None,
            patience=Patience(attempts=2),
        )
        plan = make_plan(SERVICE, gather(images))
        try:
            Sending(plan, str(path), Key("k", "a test"), means=means).run()
        except Exception as error:
            return [f"the batch ended with {type(error).__name__}: {error}"]
        return list(_checked(path, count))


def _checked(path, count):
    with LedgerStore(path) as ledger:
        batch = find_batch(ledger)
        for kind, row in outcome_counts(ledger, batch).items():
            if sum(row.values()) != count:
                yield f"outcomes of {kind} do not add up: {row}"
        with ledger.reading() as connection:
            lost = connection.exec_driver_sql(
                "SELECT COUNT(*) FROM calls WHERE status BETWEEN 200 AND 299 AND answer IS NULL"
            ).scalar()
            if lost:
                yield f"{lost} answers were not kept"
    try:
        found = findings_of(path)
        frame = found.frame()
        Findings.from_frame(frame)
        if not np.isfinite(found.box[~np.isnan(found.box)]).all():
            yield "a box is not finite"
    except Exception as error:
        yield f"findings: {type(error).__name__}: {error}"


@lru_cache(maxsize=1)
def bombs():
    """Bodies that unpack to far more than they are: (content coding, bytes)."""
    return [
        ("gzip", gzip.compress(bytes(80 << 20))),
        ("deflate", zlib.compress(bytes(80 << 20))),
        ("gzip", gzip.compress(b"{}")[:-9]),
        ("compress", b"\x0b\x02\x80"),
        ("gzip, gzip", b"xx"),
    ]
