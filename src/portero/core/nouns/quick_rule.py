"""Rules in few words: what is to be done about some things, somewhere. Where they are kept is found or made."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Action
from portero.core.nouns.assignment import AssignmentKey
from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.rule import RulesetKind
from portero.core.nouns.worklist import AuthoringWarning

Word = Annotated[str, Field(min_length=1, max_length=8192)]


class QuickRules(Noun):
    """What is to be done about some things, somewhere.

    A word with more than one reading is refused; it is spelt out as in `category:games`, `device:eastquay-desk-01`.
    """

    action: Action
    what: Annotated[
        tuple[Word, ...],
        Field(
            min_length=1,
            max_length=100,
            description="Hosts, URLs, addresses, categories, families, services, site patterns and programs.",
        ),
    ]
    on: Annotated[tuple[Text, ...], Field(min_length=1, max_length=50, description="Groups and machines.")]
    people: Annotated[
        tuple[Text, ...], Field(max_length=100, description="Only for these people and user groups.")
    ] = ()
    until: Annotated[Timestamp | None, Field(description="When the rules are over.")] = None


class QuickRuleKept(Noun):
    """Where one of them is kept."""

    word: Annotated[str, Field(description="As it was asked for.")]
    on: str
    kind: RulesetKind
    selector: Annotated[str, Field(description="As lists show it: “host x.example”.")]
    ruleset: Key
    assignment: AssignmentKey
    made: Annotated[bool, Field(description="Whether the ruleset was made for it.")]
    before: Annotated[Action | None, Field(description="What was said of it there before, if anything.")] = None


class QuickRulesMade(Noun):
    """What quick rules came to."""

    rules: tuple[QuickRuleKept, ...]
    application_sets: Annotated[tuple[Key, ...], Field(description="Sets that were made for programs.")] = ()
    warnings: Annotated[tuple[AuthoringWarning, ...], Field(description="What should be known of them.")] = ()
    revision: Annotated[int, Field(description="The newest revision; it made them, unless it was so already.")]
    changed: Annotated[bool, Field(description="Whether anything was said that was not so already.")]
    devices: Annotated[int, Field(description="How many machines they reach.")]
