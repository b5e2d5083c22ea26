"""A TAXII 2.1 collection on a real server, with a password, in pages."""

from __future__ import annotations

import json
import socket

import httpx
import pytest

from conftest import Process, eventually
from portero.core.nouns.feed import Feed, FeedCredential
from portero.store import feeds
from service.standins import TAXII, configure, keepers_at, poll, stix

pytestmark = pytest.mark.process
ROOT = "trustgroup"
COLLECTION = "365fed99-08fa-fdcd-a1b3-fb247eb41d01"


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    """The collection's address, once the server answers."""
    folder = tmp_path_factory.mktemp("taxii")
    objects = [stix(f"[domain-name:value = 'host-{n}.example']") for n in range(45)]
    for n, one in enumerate(objects):
        one["id"] = f"indicator--00000000-0000-4000-8000-{n:012}"
    added = "2026-11-20T00:00:00.000000Z"
    manifest = [
        {
            "id": object_["id"],
            "date_added": added,
            "version": object_["modified"],
            "media_type": "application/stix+json;version=2.1",
        }
        for object_ in objects
    ]
    data = {
        "/discovery": {
            "title": "A server",
            "default": f"http://127.0.0.1/{ROOT}/",
            "api_roots": [f"http://127.0.0.1/{ROOT}/"],
        },
        ROOT: {
            "information": {"title": "Group", "versions": [TAXII], "max_content_length": 9_765_625},
            "status": [],
            "collections": [
                {
                    "id": COLLECTION,
                    "title": "Indicators",
                    "can_read": True,
                    "can_write": True,
                    "media_types": ["application/stix+json;version=2.1"],
                    "objects": objects,
                    "manifest": manifest,
                }
            ],
        },
    }
    (folder / "data.json").write_text(json.dumps(data))
    config = {
        "backend": {
            "module": "medallion.backends.memory_backend",
            "module_class": "MemoryBackend",
            "filename": str(folder / "data.json"),
        },
        "users": {"portero": "s3cret"},
        "taxii": {"max_page_size": 20},
    }
    (folder / "config.json").write_text(json.dumps(config))
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    running = Process("medallion.scripts.run", "--host", "127.0.0.1", "--port", port, folder / "config.json")
    url = f"http://127.0.0.1:{port}"

    def answers() -> bool:
        try:
            return httpx.get(url + "/taxii2/").status_code == 401
        except httpx.HTTPError:
            return False

    eventually(answers, timeout=30)
    yield f"{url}/{ROOT}/collections/{COLLECTION}/"
    running.stop()


def test_a_real_server_is_read_to_its_end_and_asked_for_what_is_new(server, tmp_path):
    given = {"kind": "indicators", "format": "taxii", "action": "block", "private_network": True, "address": server}
    with keepers_at(tmp_path, 1_795_600_000.0) as (keepers, _):
        configure(keepers, Feed.model_validate({"key": "watch", **given}))
        assert "does not let this feed in" in poll(keepers, "watch").last_poll.problem
        with keepers.store.writing() as connection:
            credential = FeedCredential(user="portero", password="s3cret").model_dump_json()
            feeds.note(connection, "watch", credential=credential)
        found = poll(keepers, "watch")
        assert (found.last_poll.result, found.last_poll.problem) == ("new", None)
        assert (found.in_force.entries, found.in_force.lines) == (45, 45), "three pages of twenty at most"
        assert found.in_force.bookmark.startswith("2026-11-20")
        assert poll(keepers, "watch").last_poll.result == "unchanged"
        headers = {"Accept": TAXII, "Content-Type": TAXII}
        new = {**stix("[url:value = 'http://new.example/x']"), "id": "indicator--00000000-0000-4000-8000-000000000999"}
        answer = httpx.post(server + "objects/", json={"objects": [new]}, headers=headers, auth=("portero", "s3cret"))
        assert answer.status_code == 202
        found = poll(keepers, "watch")
        assert (found.in_force.entries, found.in_force.lines, found.in_force.added) == (46, 1, 1)
