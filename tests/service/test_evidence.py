"""Evidence: what is signed, by which key, what is refused, and what there is none of."""

from __future__ import annotations

import hashlib

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, signed, under
from portero.client import NotAllowed, NotFound
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.formats.evidence import BadEvidence, open_evidence
from portero.formats.manifests import open_manifest
from serving import PASSWORD

STOPPED = "http://gambling.category.test/"


@pytest.fixture(scope="module")
def run(service, portero):
    """A predicted run over two machines, one of which only records."""
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.assignments.create(assignment("no-gambling", "office"))
    probes = [{"visit": STOPPED, "expect": "block", "name": "Nobody gambles <b>here</b>"}]
    portero.probe_sets.create(ProbeSet.model_validate({"key": "holds", "to": ["office"], "probes": probes}))
    portero.settings.change(name="Brackwater Ferries")
    for number, mode in enumerate(("enforcing", "observing"), start=1):
        wire = Wire(service, portero, f"desk-{number}", layers={"filter": mode})
        wire.sync()
    run = portero.runs.create(NewRun(), wait=20)
    run.__dict__["pinned"] = wire.key
    run.__dict__["manifest"] = wire.check_in().json()["manifest"]
    return run


def test_what_is_signed_is_the_run_as_it_was(portero, run):
    made = portero.evidence.create(run.id)
    file, key = portero.evidence.file(made.id).decode(), portero.evidence.key().decode()
    assert hashlib.sha256(file.encode()).hexdigest() == made.sha256
    told = open_evidence(file, key)
    assert told == portero.evidence.get(made.id)
    assert (told.estate, told.run.id, told.run.revision, told.made_by) == (
        "Brackwater Ferries",
        run.id,
        run.revision,
        "keeper",
    )
    assert told.results == run.results
    machines = {one.hostname: one for one in told.machines}
    assert set(machines) == {"desk-1", "desk-2"}
    assert machines["desk-1"].bundle == portero.devices.get("desk-1").applied_bundle
    assert machines["desk-1"].groups == portero.devices.get("desk-1").groups
    assert next(portero.evidence.list()).id == made.id
    assert portero.revisions.get(run.revision).evidence[0].id == made.id


def test_its_key_and_its_type_are_its_own(portero, run):
    made = portero.evidence.create(run.id)
    file, key = portero.evidence.file(made.id).decode(), portero.evidence.key().decode()
    pinned, manifest = run.__dict__["pinned"], run.__dict__["manifest"]
    assert key.strip() != pinned.strip()
    with pytest.raises(BadEvidence, match="not signed by this key"):
        open_evidence(file, pinned)
    with pytest.raises(BadEvidence, match="it is no evidence"):
        open_evidence(manifest, pinned)
    with pytest.raises(ValueError, match="not signed"):
        open_manifest(file, pinned)
    for no_key in (file, "", "-----BEGIN PUBLIC KEY-----"):
        with pytest.raises(BadEvidence, match="no public key"):
            open_evidence(file, no_key)


@pytest.mark.parametrize("text", ["", "x", "a.b.c", "eyJhbGciOiJub25lIn0.e30.", "\n", "é"])
def test_what_is_no_evidence_is_refused(portero, text):
    with pytest.raises(BadEvidence):
        open_evidence(text, portero.evidence.key().decode())


def test_every_place_counts(portero, run):
    made = portero.evidence.create(run.id)
    file, key = portero.evidence.file(made.id).decode(), portero.evidence.key().decode()
    for place in range(0, len(file) - 2, 97):
        letter = "A" if file[place] != "A" else "B"
        with pytest.raises(BadEvidence):
            open_evidence(file[:place] + letter + file[place + 1 :], key)


def test_the_page_is_whole_in_itself_and_quotes_what_it_tells(service, portero, run):
    made = portero.evidence.create(run.id)
    url = f"{service.url}/api/v1/evidence/{made.id}/page"
    answer = httpx.get(url, headers=signed(portero))
    assert "default-src 'none'; style-src 'sha256-" in answer.headers["Content-Security-Policy"]
    assert "Nobody gambles &lt;b&gt;here&lt;/b&gt;" in answer.text
    assert "Blocks on 1 of 2 machines; 1 does not." in answer.text
    assert "src=" not in answer.text


def test_who_may_make_it_and_who_may_read_it(service, portero, run):
    service.add("audits", "reader")
    made = portero.evidence.create(run.id)
    with service.client("audits", PASSWORD) as auditor:
        assert auditor.evidence.get(made.id).run.id == run.id
        with pytest.raises(NotAllowed):
            auditor.evidence.create(run.id)
    for missing in (lambda: portero.evidence.create(4_711), lambda: portero.evidence.get(4_711)):
        with pytest.raises(NotFound):
            missing()


def test_machines_that_never_tried_a_probe_are_listed(portero, run):
    never = portero.evidence.never_observed()
    assert (never.machines, never.observed, never.items) == (2, 0, ("desk-1", "desk-2"))
    assert never.sentence == "None of 2 machines has tried a probe."
    assert portero.evidence.never_observed(limit=1).next == "desk-1"


def test_a_machine_that_holds_nothing_yet_is_signed_as_that(service, portero, run):
    Wire(service, portero, "desk-3", layers={"filter": "enforcing"})
    made = portero.evidence.create(portero.runs.create(NewRun(), wait=20).id)
    told = open_evidence(portero.evidence.file(made.id).decode(), portero.evidence.key().decode())
    assert [one.bundle for one in told.machines if one.hostname == "desk-3"] == [None]
    assert b"desk-3" in portero.evidence.page(made.id)
