"""A whole draft: from raw answers, what is known of the request, and what a person says."""

from __future__ import annotations

from collections.abc import Sequence

from dotledger.errors import ArgumentError
from dotledger.services.drafting.box_drafting import Size
from dotledger.services.drafting.draft_questions import (
    Question,
    ask_about_request,
    ask_about_rules,
    unknown_words,
)
from dotledger.services.drafting.draft_writing import Draft, draft, with_samples
from dotledger.services.drafting.openapi_requests import from_openapi
from dotledger.services.drafting.request_samples import Asked
from dotledger.services.drafting.sample_trees import samples_of
from dotledger.services.drafting.saved_requests import Saved, from_curl, from_har

__all__ = ["request_draft", "saved_from", "whole_draft"]


def saved_from(
    *,
    curl: str | None = None,
    har: bytes | None = None,
    openapi: bytes | None = None,
    operation: str = "",
) -> Saved:
    """Return what is known of how a service is asked, from one source at most.

    Parameters
    ----------
    openapi : bytes, optional
        An OpenAPI document of version 3.

    Raises
    ------
    ArgumentError
        For several sources, or one that tells nothing.
    """
    if sum(one is not None for one in (curl, har, openapi)) > 1:
        raise ArgumentError("one source at a time", place="curl, har, openapi")
    if operation and openapi is None:
        raise ArgumentError("an operation goes with an OpenAPI document", place="operation")
    if curl is not None:
        return from_curl(curl)
    if har is not None:
        return from_har(har)
    return Saved(asked=Asked()) if openapi is None else from_openapi(openapi, operation=operation)


def request_draft(saved: Saved, *, ask: Question | None = None) -> Draft:
    """Draft a description that says how a service is asked, and has no rules yet.

    Parameters
    ----------
    saved : Saved
        How the service is asked; see `saved_from`.
    ask : callable, optional
        Asks a person what is not known of it.
    """
    made = Draft(asked=saved.asked)
    if ask is not None:
        ask_about_request(made.asked, ask)
    made.questions = list(made.asked.questions)
    return made


def whole_draft(
    raw: Sequence[bytes],
    sizes: Sequence[Size] = (),
    *,
    words: Sequence[str] = (),
    saved: Saved | None = None,
    ask: Question | None = None,
) -> Draft:
    """Draft a description from raw answers and all that is known besides.

    Parameters
    ----------
    sizes : sequence of (width, height)
        Of their images; empty if not known.
    words : sequence of str
        The ordered words of the service's confidence scale, rising.
    saved : Saved, optional
        How the service is asked; see `saved_from`.
    ask : callable, optional
        Asks a person what no sample tells.

    Returns
    -------
    Draft
        With everything that stays open among its questions.

    Raises
    ------
    ArgumentError
        Without an answer to read from, or for one that cannot be taken apart.
    """
    samples = samples_of(raw) if raw else None
    if samples is None or not samples.documents:
        raise ArgumentError(
            "there is no answer to read from",
            place="SAMPLES",
            got="none" if samples is None else "only promises of one",
            next_step="Give one or more answers of the service as files, too.",
        )
    known = list(sizes)[-len(samples.documents) :]
    made = draft(samples.documents, known, words=words)
    if ask is not None and (listed := unknown_words(made)):
        said = ask(f"The words {', '.join(listed)}: from low to high, with commas", [])
        made = draft(samples.documents, known, words=[one.strip() for one in said.split(",")])
    made.asked = Asked() if saved is None else saved.asked
    with_samples(made, samples)
    if ask is not None:
        ask_about_request(made.asked, ask)
        ask_about_rules(made, ask)
    made.questions += made.asked.questions
    return made
