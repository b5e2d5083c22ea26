"""Make up the hosts of the category index that ships: `python -m portero.demo.making_hosts > FILE`.

Seeded, so that the file comes out the same each time. Every name ends in `.example` (RFC 2606).
"""

from __future__ import annotations

import random

from portero.core.nouns.taxonomy import UNCATEGORISED
from portero.core.nouns.web_taxonomy import TAXONOMY

_FIRST = [
    "amber",
    "brisk",
    "cobalt",
    "drift",
    "ember",
    "fern",
    "gannet",
    "hazel",
    "inlet",
    "jolly",
    "kelp",
    "lantern",
    "mellow",
    "nimble",
    "otter",
    "pebble",
    "quay",
    "reed",
    "saffron",
    "thistle",
    "umber",
    "velvet",
    "willow",
    "yarrow",
    "zephyr",
]
_WORDS: dict[str, str] = {
    "video-streaming": "clips reels screen flicker matinee",
    "music": "tunes chorus fiddle ballad radio",
    "games": "dice puzzle quest arcade marbles",
    "sport": "league goals regatta stadium",
    "hobbies": "garden knitting kites kitchen",
    "humour": "jokes comics giggles",
    "social-networks": "circle faces neighbours friends",
    "messaging": "chat ping chatter",
    "forums": "board thread roundtable",
    "dating": "match hearts tryst",
    "malware": "payload dropper crackload",
    "phishing": "login-check account-verify secure-signin",
    "scams": "refund prize-win parcel-fee",
    "newly-registered": "fresh justopened newname",
    "anonymisers": "tunnel veil relay",
    "gambling": "reef-casino bets lottery jackpot",
    "sexual-content": "blush nightfall velvet-room",
    "alcohol-tobacco": "distillery taproom pipes",
    "drugs": "pillshop highs",
    "weapons": "blades armoury",
    "violence": "brawls gore",
    "hatred": "spite scorn",
    "piracy": "freefilms swagcopies",
    "productivity": "tables notes planner docs",
    "webmail": "mail postbox inbox",
    "remote-access": "deskview farhand steer",
    "file-exchange": "drop handover courier",
    "software-downloads": "installers tools downloads",
    "image-hosting": "album snaps pictures",
    "assistants": "scribe answers draftbot",
    "meetings": "meet roundcall conference",
    "banking": "bank savings pay",
    "shopping": "shop bazaar outfit",
    "classifieds": "adverts secondhand auction",
    "investing": "shares coins markets",
    "news": "herald gazette weather",
    "education": "school academy lessons",
    "reference": "atlas lexicon timetable",
    "health": "clinic remedies wellbeing",
    "public-services": "harbour-office council customs",
    "search": "find seek lookup",
    "advertising": "ads banners clickcount",
    "content-delivery": "static edge assets",
    "parked": "forsale holding",
}
# Hosts that the demo's scenario speaks of; two of them carry two categories.
_NAMED = {
    "lucky-reef.example": "gambling",
    "tide-and-dice.example": "gambling games",
    "reeltide.example": "video-streaming",
    "shanty.example": "music",
    "quickdrop.example": "file-exchange",
    "parcel-refund.example": "scams",
    "berth-invoice.example": "phishing",
    "tickets.brackwater.example": "productivity",
    "timetable.brackwater.example": "reference",
    "crew-rota.example": "productivity",
    "fleet-weather.example": "news",
    "clips.matchday.example": "sport video-streaming",
    "deckhand.example": "remote-access software-downloads",
    "find.example": "search",
}


def made_up_hosts(seed: int = 2026, per_category: int = 9, numbered: bool = False) -> dict[str, str]:
    """Host → categories, set apart by spaces; every category but `uncategorised` has some.

    With numbers in them there can be any number of names; without, some fifty a category.
    """
    random_words = random.Random(seed)
    hosts = dict(_NAMED)
    for category in TAXONOMY.categories:
        if category == UNCATEGORISED:
            continue
        words = _WORDS[category].split()
        made = 0
        while made < per_category:
            number = random_words.randrange(10_000) if numbered else ""
            host = f"{random_words.choice(_FIRST)}-{random_words.choice(words)}{number}.example"
            if host not in hosts:
                hosts[host] = category
                made += 1
    return dict(sorted(hosts.items()))


if __name__ == "__main__":
    print("host,categories")
    for name, categories in made_up_hosts().items():
        print(f"{name},{categories}")
