"""Drafting reading rules from sample answers: guesses, ranked, each with its reasons."""

from __future__ import annotations

from dotledger.services.drafting.boxes import BoxGuess
from dotledger.services.drafting.drafts import Draft, described_draft, draft, read_samples
from dotledger.services.drafting.rules import RuleGuess

__all__ = ["BoxGuess", "Draft", "RuleGuess", "described_draft", "draft", "read_samples"]
