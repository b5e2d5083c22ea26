"""Generated machines and groups whose rules meet often, for tests of membership."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import strategies as st

import plain_membership
from portero.core.matching.members import Member, facts_from, facts_from_json
from portero.core.matching.membership import Membership
from portero.core.nouns.device import Facts
from portero.core.nouns.group import Group

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
HOSTNAMES = ["tern-mess-1", "tern-bridge-1", "kiosk-07", "office-1"]
VERSIONS = ["4.1", "4.2", "4.2.0", "4.2-rc1", "12.4"]

texts = {
    "hostname": HOSTNAMES,
    "kind": ["kiosk", "laptop"],
    "unit": ["brackwater", "brackwater/ships", "brackwater/ships/tern", "brackwater/shipsyard"],
    "os.family": ["linux", "Windows"],
    "serial": ["S-1", "S-2"],
    "zone": ["Europe/Berlin", "Atlantic/Faroe"],
    "place": ["on-site", "off-site"],
    "labels.wave": ["first", "Second"],
    "layers.filter": ["enforcing", "observing"],
    "browsers.name": ["chromium", "gullwing"],
    "applications.product": ["Deckhand Viewer", "Chart Table"],
    "applications.vendor": ["Deckhand"],
}
ENUMERATED = ("kind", "place", "layers.filter")


@st.composite
def conditions(draw: st.DrawFn) -> dict:
    sort = draw(st.sampled_from(["text", "text", "text", "version", "address", "time", "sample", "has"]))
    if sort == "version":
        field = draw(st.sampled_from(["os.version", "browsers.version", "applications.version"]))
        value = draw(st.sampled_from(VERSIONS))
        return {"field": field, "op": draw(st.sampled_from(["from", "to", "below", "is"])), "value": value}
    if sort == "address":
        network = draw(st.sampled_from(["198.51.100.0/24", "2001:db8:5::/48", "192.0.2.0/25"]))
        return {"field": "addresses", "op": "within", "value": network}
    if sort == "time":
        value = draw(st.sampled_from(list(plain_membership.DURATIONS)))
        return {"field": "last_start", "op": "older_than", "value": value}
    if sort == "sample":
        share = draw(st.sampled_from(["0", "10 %", "37.5 %", "99.99%", "100 %"]))
        return {"field": "sample", "op": draw(st.sampled_from(["below", "from"])), "value": share}
    if sort == "has":
        version = draw(st.sampled_from([{}, {"version": {"below": "4.2"}}, {"version": "4.2"}]))
        if draw(st.booleans()):
            value = {"product": draw(st.sampled_from(texts["applications.product"])), **version}
            return {"field": "applications", "op": "has", "value": value}
        return {"field": "browsers", "op": "has", "value": {"managed": draw(st.booleans()), **version}}
    field = draw(st.sampled_from(list(texts)))
    value = draw(st.sampled_from(texts[field]))
    ops = ["is", "one_of"] if field in ENUMERATED else ["is", "one_of", "starts_with", "ends_with", "contains", "like"]
    op = draw(st.sampled_from([*ops, "under"] if field == "unit" else ops))
    if op == "one_of":
        return {"field": field, "op": op, "value": draw(st.lists(st.sampled_from(texts[field]), min_size=1))}
    if op == "like":
        value = draw(st.sampled_from([value, value[:3] + "*", "*" + value[-2:], value[:-1] + "?"]))
    elif op in ("starts_with", "ends_with", "contains"):
        value = {"starts_with": value[:3], "ends_with": value[-2:], "contains": value[1:3]}[op]
    return {"field": field, "op": op, "value": value.upper() if field not in ENUMERATED else value}


def branches(depth: int) -> st.SearchStrategy[list[dict]]:
    inner = conditions() if depth == 0 else st.one_of(conditions(), conditions(), rules(depth - 1))
    return st.lists(inner, min_size=1, max_size=3)


def rules(depth: int = 2) -> st.SearchStrategy[dict]:
    parts = {name: branches(depth) for name in ("all", "any", "none")}
    return st.fixed_dictionaries({}, optional=parts).filter(bool)


pins = st.fixed_dictionaries(
    {}, optional={where: st.lists(st.sampled_from(HOSTNAMES), max_size=2, unique=True) for where in ("in", "out")}
)
group_lists = st.lists(
    st.fixed_dictionaries({}, optional={"members": rules(), "pins": pins}), min_size=1, max_size=5
).map(lambda made: [{"key": f"g{number}", **one} for number, one in enumerate(made)])

item = st.fixed_dictionaries({}, optional={"version": st.sampled_from(VERSIONS)})
applications = st.builds(
    lambda version, more: {**version, **more},
    item,
    st.fixed_dictionaries(
        {"product": st.sampled_from(texts["applications.product"])}, optional={"vendor": st.just("Deckhand")}
    ),
)
browsers = st.builds(
    lambda version, more: {**version, **more},
    item,
    st.fixed_dictionaries({"name": st.sampled_from(texts["browsers.name"]), "managed": st.booleans()}),
)
devices = st.fixed_dictionaries(
    {"hostname": st.sampled_from(HOSTNAMES), "kind": st.sampled_from(texts["kind"])},
    optional={
        "unit": st.sampled_from(texts["unit"]),
        "os": st.fixed_dictionaries({"family": st.just("linux")}, optional={"version": st.sampled_from(VERSIONS)}),
        "addresses": st.lists(st.sampled_from(["198.51.100.7", "2001:db8:5::9", "192.0.2.200"]), max_size=2),
        "serial": st.sampled_from(texts["serial"]),
        "zone": st.sampled_from(texts["zone"]),
        "place": st.sampled_from(texts["place"]),
        "layers": st.fixed_dictionaries({}, optional={"filter": st.sampled_from(texts["layers.filter"])}),
        "browsers": st.lists(browsers, max_size=2),
        "applications": st.lists(applications, max_size=2),
        "last_start": st.sampled_from([NOW - timedelta(days=40), NOW - timedelta(hours=2), NOW]),
        "labels": st.fixed_dictionaries({}, optional={"wave": st.sampled_from(["first", "second"])}),
    },
)


def member(id: str, device: dict, **more) -> Member:
    facts = Facts.model_validate({name: value for name, value in device.items() if name != "labels"})
    assert facts_from(facts) == facts_from_json(facts.model_dump_json(exclude_none=True))
    return Member(id, facts_from(facts), device.get("labels"), **more)


def compiled(groups: list[dict], previous: Membership | None = None) -> Membership:
    nouns = [Group.model_validate(group) for group in groups]
    assert [Group.model_validate(noun.model_dump(mode="json", exclude_none=True)) for noun in nouns] == nouns
    return Membership(nouns, [noun.key for noun in nouns], previous)
