"""The notice page: that the organisation stops or warns, why in plain words, and a reference code."""

from __future__ import annotations

from importlib import resources

import jinja2

from portero.core import sentences
from portero.core.nouns.ground import ground_words
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.endpoint.agent import AgentRuling

NOTICE_HOST = "notice.portero.test"
"""Reserved (RFC 6761): the filter itself answers for it, and nobody else ever can."""

_PAGE = jinja2.Environment(autoescape=True).from_string(
    (resources.files("portero.endpoint") / "notice.html").read_text(encoding="utf-8")
)


def notice_page(ruling: AgentRuling, machine: str) -> str:
    """The page for a ruling that warns or blocks."""
    return _PAGE.render(
        warns=ruling.verdict == "warn",
        host=ruling.host,
        url=ruling.url,
        sentence=sentences.notice_sentence(ruling.verdict.value, ruling.layer.winner, ruling.categories),
        own=ruling.notice,
        categories=[TAXONOMY.categories[key] for key in ruling.categories],
        ground=_ground(ruling),
        reference=ruling.reference,
        machine=machine,
        notice_host=NOTICE_HOST,
    )


def _ground(ruling: AgentRuling) -> str | None:
    """The ground in words, where the notice is to tell it."""
    winner = ruling.layer.winner
    if ruling.notice is None or not ruling.notice.shows_ground or winner is None:
        return None
    listed = [TAXONOMY.categories[key].ground for key in ruling.categories]
    ground = winner.ground or next(filter(None, listed), None)
    return ground_words(ground) if ground else None
