"""Estimates of a sending, against what it then needs."""

import io

from msgspec.structs import replace
from PIL import Image

from dotledger.images.image_gathering import gather
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.cost_forecast import forecast
from dotledger.sending.policies.send_plan import make_plan
from tests.sending.helpers import ANSWER, InFolder, description, picture, pictures

LIMITS = ("[limits]", "[limits]\nper_second = 10\nper_minute = 120\nper_month = 10\nmax_side = 20")


class Forecasting(InFolder):
    def forecast(self, images, service, month="2026-11"):
        with LedgerStore(self.path) as ledger:
            return forecast(make_plan(service, gather(images)), ledger, month=month)

    def test_it_comes_true(self):
        """Calls, money and refusals are those of the sending that follows."""
        service = description(("min_side = 8", "min_side = 10"))
        images = {
            **pictures(6),
            "twin.jpg": picture(2),
            "small.jpg": picture(size=(9, 30)),
            "text.jpg": b"no image",
        }
        self.send(pictures(2), [ANSWER], service)
        told = self.forecast(images, service)
        self.assertEqual(
            (told.images, told.to_send, told.answered, told.repeated, told.refused),
            (9, 4, 2, 1, 2),
        )
        sent, transport = self.send(images, [ANSWER], service)
        self.assertEqual((told.calls, round(told.money, 9)), (sent.calls, round(sent.money, 9)))
        self.assertEqual(told.bytes, sum(len(r.body) for r in transport.requests))
        self.assertEqual(sent.outcomes["label"]["refused"], told.refused)
        self.assertEqual(
            {name for names in told.reasons.values() for name in names}, {"small.jpg", "text.jpg"}
        )

    def coloured(self, count):
        """Images of different colours: shrunk, they are different still."""
        found = {}
        for number in range(count):
            buffer = io.BytesIO()
            Image.new("RGB", (24, 16), (30 * number, 0, 0)).save(buffer, "JPEG")
            found[f"p-{number}.jpg"] = buffer.getvalue()
        return found

    def test_time_and_quota(self):
        """The tightest rate gives the time; the quota counts what was used this month only."""
        service = description(LIMITS)
        self.send(self.coloured(3), [ANSWER], service)
        from datetime import UTC, datetime

        month = datetime.now(UTC).strftime("%Y-%m")
        told = self.forecast(self.coloured(7), service, month)
        self.assertEqual((told.calls, told.seconds), (4, 2.0))  # 120 a minute, not 10 a second
        self.assertEqual((told.used_this_month, told.per_month, told.share_of_month), (3, 10, 0.7))
        self.assertEqual(self.forecast(self.coloured(7), service, "1999-01").used_this_month, 0)
        self.assertEqual(told.prepared, {"shrunk to fit": 4})

    def test_several_images_and_base64(self):
        """Calls are rounded up, and bytes count as they go out."""
        service = description(
            (
                'path = "/look"',
                'path = "/look"\nbody = "json"\nimages = 4\nimage_field = "all"\neach = { i = "{image}" }',
            )
        )
        told = self.forecast(pictures(9), service)
        self.assertEqual(told.calls, 3)
        for per, money in (("request", 0.03), ("image", 0.09), ("operation", 0.18)):
            priced = replace(service, price=replace(service.price, per=per))
            self.assertAlmostEqual(self.forecast(pictures(9), priced).money, money)
        size = sum(len(data) for data in pictures(9).values())
        self.assertAlmostEqual(told.bytes / size, 4 / 3, places=2)
        self.assertNotEqual(told.share_of_month, told.share_of_month, "no quota: not a number")
