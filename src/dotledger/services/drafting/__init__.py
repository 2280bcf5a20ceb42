"""Drafting reading rules from sample answers: guesses, ranked, each with its reasons."""

from __future__ import annotations

from dotledger.services.drafting.box_drafting import BoxGuess
from dotledger.services.drafting.draft_writing import (
    Draft,
    described_draft,
    draft,
    kinds_toml,
    read_beside,
    read_samples,
)
from dotledger.services.drafting.rule_drafting import RuleGuess
from dotledger.services.drafting.whole_answer import request_draft, saved_from, whole_draft

__all__ = [
    "BoxGuess",
    "Draft",
    "RuleGuess",
    "described_draft",
    "draft",
    "kinds_toml",
    "read_beside",
    "read_samples",
    "request_draft",
    "saved_from",
    "whole_draft",
]
