"""Grounds: why an organisation stops something, as reports and notices say it."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field, StringConstraints

GROUNDS = {
    "malware": "it may do harm to machines, or deceive people",
    "liability": "the organisation would have to answer for it",
    "productivity": "it keeps people from their work",
    "bandwidth": "it takes up much of the line",
    "compliance": "law, contracts or rules of the house ask for it",
}
"""The usual grounds, each with what it means. Organisations have others, in words of their own."""


def _folded(text: str) -> str:
    return text.casefold() if text.casefold() in GROUNDS else text


Ground = Annotated[
    str,
    StringConstraints(min_length=1, max_length=60),
    AfterValidator(_folded),
    Field(description=f"Why it is there: {', '.join(GROUNDS)}, or words of your own."),
]


def ground_words(ground: str) -> str:
    """A ground with what it means: “Bandwidth: it takes up much of the line”."""
    meaning = GROUNDS.get(ground)
    return ground if meaning is None else f"{ground.capitalize()}: {meaning}"
