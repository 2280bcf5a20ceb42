"""Drafting reading rules from sample answers: guesses, ranked, each with its reasons."""

from __future__ import annotations

from dotledger.services.drafting.boxes import BoxGuess
from dotledger.services.drafting.drafts import (
    Draft,
    described_draft,
    draft,
    read_beside,
    read_samples,
)
from dotledger.services.drafting.rules import RuleGuess
from dotledger.services.drafting.whole import saved_from, whole_draft

__all__ = [
    "BoxGuess",
    "Draft",
    "RuleGuess",
    "described_draft",
    "draft",
    "read_beside",
    "read_samples",
    "saved_from",
    "whole_draft",
]
