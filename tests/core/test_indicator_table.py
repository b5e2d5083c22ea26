"""The table of indicators against a scan of all rules, one by one."""

from __future__ import annotations

from ipaddress import ip_address, ip_network

from hypothesis import given
from hypothesis import strategies as st

from portero.core.matching.indicators import IndicatorTable, ServiceFacts
from portero.core.nouns.rule import Rule
from portero.core.nouns.urls import address_of, parse_visit

HOSTS = ["a.example", "b.a.example", "c.b.a.example", "d.example", "xa.example", "203.0.113.7"]
PATHS = ["", "/", "/x", "/x/y", "/xy", "/x?q=1", "/x/y?q=1"]
PORTS = ["", ":8443"]
SERVICES = {
    "drop": (("a.example",), ServiceFacts("drop", "declined", 20)),
    "inner": (("b.a.example",), ServiceFacts("inner", "approved", None)),
}
RULES = st.one_of(
    st.builds(
        lambda host, exact: {"host": host, "exact": exact},
        st.sampled_from(HOSTS[:-1]),
        st.booleans(),
    ),
    st.builds(
        lambda host, port, path, exact: {"url": f"http://{host}{port}{path or '/'}", "exact": exact},
        st.sampled_from(HOSTS),
        st.sampled_from(PORTS),
        st.sampled_from(PATHS),
        st.booleans(),
    ),
    st.sampled_from([{"address": "203.0.113.7"}, {"address": "203.0.113.0/29"}, {"address": "203.0.113.64/26"}]),
    st.sampled_from(
        [{"service": "drop"}, {"service": "inner"}, {"decision": "declined"}, {"suitability": {"from": 10, "to": 30}}]
    ),
).map(lambda given: Rule.model_validate({**given, "action": "block"}))
VISITS = st.builds(
    lambda scheme, host, port, path: parse_visit(f"{scheme}://{host}{port}{path}"),
    st.sampled_from(["http", "https"]),
    st.sampled_from([*HOSTS, "deep.c.b.a.example", "e.d.example", "203.0.113.70"]),
    st.sampled_from(PORTS),
    st.sampled_from(PATHS),
)


def table_of(rules: list[Rule]) -> IndicatorTable[int]:
    table: IndicatorTable[int] = IndicatorTable(SERVICES)
    for number, rule in enumerate(rules):
        table.add(rule.selector, number)
    return table


def holds(rule: Rule, visit) -> bool:
    """Whether a rule matches a visit, as page 2 of the design words it."""
    if rule.host is not None:
        return visit.host == rule.host or (not rule.exact and visit.host.endswith("." + rule.host))
    if rule.url is not None:
        named = parse_visit(f"http://{rule.selector.value}")
        port, path, query = named.rest
        if visit.host != named.host or (port is not None and port != visit.rest.port):
            return False
        if rule.exact or query:
            return (visit.rest.path, visit.rest.query) == (path, query)
        return visit.rest.path == path or visit.rest.path.startswith(path.rstrip("/") + "/")
    if rule.address is not None:
        return ip_address(visit.host) in ip_network(rule.address) if address_of(visit.host) else False
    names = [visit.host.split(".", number)[-1] for number in range(visit.host.count(".") + 1)]
    facts = next((one for name in names for hosts, one in SERVICES.values() if name in hosts), None)
    if facts is None:
        return False
    if rule.service is not None:
        return facts.key == rule.service
    if rule.decision is not None:
        return facts.decision == rule.decision
    return facts.suitability is not None and 10 <= facts.suitability <= 30


@given(st.lists(RULES, max_size=12), VISITS)
def test_what_a_visit_meets_is_what_a_scan_finds(rules, visit):
    met = table_of(rules).met_by(visit, address_of(visit.host))
    assert sorted(met) == [number for number, rule in enumerate(rules) if holds(rule, visit)]


@given(st.lists(RULES, max_size=8), VISITS)
def test_of_a_host_alone_no_more_is_met_than_of_any_of_its_pages(rules, visit):
    table = table_of(rules)
    by_host = table.met_by(visit, address_of(visit.host), page=False)
    assert set(by_host) <= set(table.met_by(visit, address_of(visit.host)))
    if not table.looks_at_pages(visit.host):
        assert sorted(by_host) == sorted(table.met_by(visit, address_of(visit.host)))


@given(st.lists(RULES, max_size=6), st.sampled_from(HOSTS), st.sampled_from(PATHS), st.sampled_from(["", "unnamed."]))
def test_a_lonely_host_meets_one_thing_at_most_wherever_one_goes_on_it(rules, host, path, below):
    table = table_of(rules)
    if table.is_lonely(host) and not (below and address_of(host)):
        visit = parse_visit(f"http://{below}{host}{path}")
        assert len(table.met_by(visit, address_of(visit.host))) <= 1


@given(st.lists(RULES, max_size=10), st.sampled_from(HOSTS))
def test_the_rules_for_pages_of_a_host_are_those_that_name_a_url_on_it(rules, host):
    named = [number for number, rule in enumerate(rules) if rule.url and parse_visit(rule.url).host == host]
    assert sorted(table_of(rules).on_pages_of(host)) == named
    assert table_of(rules).looks_at_pages(host) == bool(named)
