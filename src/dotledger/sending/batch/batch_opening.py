"""What the ledger is told when a batch begins."""

from __future__ import annotations

from dotledger.core.spelling import as_text
from dotledger.ledger.ledger_records import BatchOpening
from dotledger.sending.policies.send_plan import Plan

__all__ = ["opening_of"]


def opening_of(plan: Plan) -> BatchOpening:
    """Return the batch that sending a plan opens; every image is looked at once.

    Returns
    -------
    BatchOpening
        Its key, service, kinds and images.
    """
    description = plan.description
    key, earlier_key = plan.keys()
    return BatchOpening(
        key=key,
        service=description.service,
        fingerprint=plan.fingerprint,
        kinds=plan.kinds,
        settings=description.connect.settings,
        description=description.to_json(),
        source=as_text(plan.gathered.source),
        floor=description.floor,
        currency=description.price.currency,
        names=[item.name for item in plan.gathered.items],
        # What `known_as` does, without calling it for a million paths.
        paths=[
            item.where
            if item.where.isascii() and "://" not in item.where
            else as_text(item.known_as)
            for item in plan.gathered.items
        ],
        earlier_key=earlier_key,
        round=plan.round,
        identities={name: known[0] for name, known in plan.identities.items()},
    )
