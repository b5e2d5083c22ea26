"""Portero's own web taxonomy, as data. Families and categories in the order in which people meet them."""

from __future__ import annotations

from portero.core.nouns.taxonomy import TEST_HOST_SUFFIX, Category, Family, Taxonomy

_FAMILIES: dict[tuple[str, str], list[tuple[str, str, str]]] = {
    ("pastime", "Pastime"): [
        ("video-streaming", "Video streaming", "Sites that play films, series, clips or live pictures."),
        ("music", "Music", "Sites that play or sell music, radio and spoken programmes."),
        ("games", "Games", "Games played in the browser, and sites about playing."),
        ("sport", "Sport", "Results, tables and reports of sport."),
        ("hobbies", "Hobbies", "Cooking, gardening, model boats and other things done for their own sake."),
        ("humour", "Humour", "Jokes, comics and pictures passed round to amuse."),
    ],
    ("meeting", "Meeting people"): [
        ("social-networks", "Social networks", "Sites on which people show themselves to others and follow them."),
        ("messaging", "Messaging", "Chat and calls between people in the browser."),
        ("forums", "Forums", "Boards on which strangers discuss a subject."),
        ("dating", "Dating", "Sites for finding a partner."),
    ],
    ("danger", "Danger"): [
        ("malware", "Malware", "Hosts that spread harmful programs or give them their orders."),
        ("phishing", "Phishing", "Pages that pretend to be another's in order to collect passwords or cards."),
        ("scams", "Scams", "Offers, refunds and invoices that are there to cheat."),
        ("newly-registered", "Newly registered", "Hosts whose name was first registered only recently."),
        ("anonymisers", "Anonymisers", "Relays and tunnels that hide where a visit goes."),
    ],
    ("adult", "Adults only"): [
        ("gambling", "Gambling", "Betting, casinos and lotteries for money."),
        ("sexual-content", "Sexual content", "Pictures, films and texts meant to arouse."),
        ("alcohol-tobacco", "Alcohol and tobacco", "The sale and praise of drink and smoke."),
        ("drugs", "Drugs", "The sale and use of intoxicants."),
        ("weapons", "Weapons", "The sale of weapons and how to make them."),
    ],
    ("harm", "Hurtful and unlawful"): [
        ("violence", "Violence", "Pictures of cruelty, and calls to it."),
        ("hatred", "Hatred", "Contempt of people for what they are."),
        ("piracy", "Piracy", "Copies of films, music and programs without their owners' leave."),
    ],
    ("work", "Tools for work"): [
        ("productivity", "Productivity", "Rotas, documents, tables and plans edited in the browser."),
        ("webmail", "Webmail", "Mailboxes read in the browser."),
        ("remote-access", "Remote access", "Steering another machine's screen from afar."),
        ("file-exchange", "File exchange", "Handing files to others through somebody else's server."),
        ("software-downloads", "Software downloads", "Sites from which programs are fetched."),
        ("image-hosting", "Image hosting", "Sites that keep people's pictures."),
        ("assistants", "Assistants", "Programs that write, draw or answer when asked in plain words."),
        ("meetings", "Meetings", "Calls with picture among several people."),
    ],
    ("money", "Money and goods"): [
        ("banking", "Banking", "Banks, cards and payments."),
        ("shopping", "Shopping", "Shops that sell goods to anybody."),
        ("classifieds", "Classifieds", "Small advertisements and auctions from person to person."),
        ("investing", "Investing", "Shares, currencies and coins, their prices and their trade."),
    ],
    ("knowledge", "Knowledge"): [
        ("news", "News", "Newspapers, broadcasters and weather."),
        ("education", "Education", "Schools, courses and learning material."),
        ("reference", "Reference", "Dictionaries, maps, timetables and encyclopaedias."),
        ("health", "Health", "Medicine, care and advice on them."),
        ("public-services", "Public services", "Authorities, harbours and what they offer to citizens."),
        ("search", "Search", "Sites that find other sites."),
    ],
    ("network", "Network"): [
        ("advertising", "Advertising", "Hosts that serve and measure advertisements."),
        ("content-delivery", "Content delivery", "Hosts that serve the pictures and scripts of other sites."),
        ("parked", "Parked", "Names that somebody holds with nothing behind them."),
        ("uncategorised", "Uncategorised", "Hosts that no feed and no correction knows."),
    ],
}


_GROUNDS = {
    "pastime": "productivity",
    "meeting": "productivity",
    "danger": "malware",
    "adult": "liability",
    "harm": "liability",
    "work": "compliance",
    "money": "productivity",
    "knowledge": "productivity",
    "network": "bandwidth",
}
"""On which ground the categories of a family are stopped, as a rule,"""
_OTHER_GROUNDS = {
    "video-streaming": "bandwidth",
    "music": "bandwidth",
    "anonymisers": "compliance",
    "software-downloads": "malware",
    "image-hosting": "bandwidth",
    "meetings": "bandwidth",
    "parked": "malware",
    "uncategorised": "malware",
}
"""and those that are stopped on another."""


def _category(family: str, key: str, name: str, definition: str) -> Category:
    ground = _OTHER_GROUNDS.get(key, _GROUNDS[family])
    return Category(key=key, name=name, definition=definition, ground=ground, test_host=key + TEST_HOST_SUFFIX)


TAXONOMY = Taxonomy(
    families=tuple(
        Family(key=key, name=name, categories=tuple(_category(key, *entry) for entry in entries))
        for (key, name), entries in _FAMILIES.items()
    )
)
"""The taxonomy that is built in."""
