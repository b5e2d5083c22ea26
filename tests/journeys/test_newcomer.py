"""A noun is added as CONTRIBUTING.md says, to a copy; then it goes through every layer."""

from __future__ import annotations

import gzip
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import expect

import portero
from conftest import Service, signed, start

pytestmark = [pytest.mark.process, pytest.mark.browser]
ROOT = Path(__file__).parents[2]
KEPT = ROOT / "tests/store/schema-4/portero.sqlite3.gz"
BLOCK = re.compile(r"^```(python|diff) (src/\S+)\n(.*?)^```", re.DOTALL | re.MULTILINE)


def follow_the_steps(copy: Path) -> int:
    """Do to the copy what the page says; how many steps that were."""
    steps = BLOCK.findall((ROOT / "CONTRIBUTING.md").read_text())
    for kind, name, text in steps:
        file = copy / Path(name).relative_to("src")
        file.write_text(text if kind == "python" else with_lines(file.read_text(), text))
    return len(steps)


def with_lines(text: str, difference: str) -> str:
    """The text with each line that begins with a plus behind the line that stands before it."""
    behind = ""
    for line in difference.splitlines():
        if line.startswith("+"):
            assert text.count(behind) == 1, behind
            text = text.replace(behind, f"{behind}{line[1:]}\n")
        else:
            behind = line[1:] + "\n"
    return text


CLIENT = """
import sys
from portero.client import NotFound, Portero
from portero.core.nouns.berth import Berth

with Portero(sys.argv[1], token=sys.argv[2]) as portero:
    made = portero.berths.create(Berth(key="quay-1", name="First quay"))
    changed = portero.berths.put(Berth(key="quay-1", name="First quay", metres=120), version=made.version)
    assert (changed.metres, changed.version) == (120, made.version + 1)
    told = portero.preview(lambda asked: asked.berths.remove("quay-1"))
    assert [(one.noun, one.key, one.verb) for one in told.changes] == [("berth", "quay-1", "removed")]
    assert [one.key for one in portero.berths.list("first")] == ["quay-1"]
    assert portero.estate.get().berths[0].metres == 120
    print(made.version)
"""


def test_a_noun_that_is_added_as_the_page_says_goes_through_every_layer(tmp_path, page):
    copy = tmp_path / "src"
    shutil.copytree(Path(portero.__file__).parent, copy / "portero", ignore=shutil.ignore_patterns("__pycache__"))
    assert follow_the_steps(copy) == 2
    # what `make reference` runs
    for folder in ("docs/reference", "docs/explanation", "tests/core"):
        shutil.copytree(ROOT / folder, tmp_path / folder)
    make = [sys.executable, str(tmp_path / "docs/reference/make.py")]
    subprocess.run(make, env={**os.environ, "PYTHONPATH": str(copy)}, check=True)
    env = {"PYTHONPATH": str(copy), "XDG_CONFIG_HOME": str(tmp_path / "config")}
    data = tmp_path / "data"
    data.mkdir()
    # the store is one from before there was such a noun, or one table
    (data / "portero.sqlite3").write_bytes(gzip.decompress(KEPT.read_bytes()))
    service = Service(data, env=env)
    try:
        made = _through_the_client(service, tmp_path, env)
        _through_the_commands(service, env)
        http = _signed_in(service)
        _through_the_routes_and_the_history(http, made)
        service.stop()
        service = Service(data, env=env, port=service.port, password=service.password)
        http = _signed_in(service)
        assert [one["key"] for one in http.get("/berths").json()["items"]] == ["quay-1", "quay-3"]
        _in_the_console(service, page)
        assert http.get("/berths/quay-9").json()["metres"] == 77
    finally:
        service.stop()


def _signed_in(service: Service) -> httpx.Client:
    with service.client() as portero:
        return httpx.Client(base_url=service.url + "/api/v1", headers=signed(portero), timeout=30)


def _through_the_client(service: Service, folder: Path, env: dict[str, str]) -> int:
    (folder / "through_client.py").write_text(CLIENT)
    token = _signed_in(service).headers["Authorization"].removeprefix("Bearer ")
    path = f"{env['PYTHONPATH']}:{folder}"
    return int(start("through_client", service.url, token, env={**env, "PYTHONPATH": path}).stdout)


def _through_the_commands(service: Service, env: dict[str, str]) -> None:
    def cli(*arguments: str, **more: object):
        return start("portero.cli.main", *arguments, env=env, **more).stdout

    cli(*("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"), input=service.password + "\n")
    assert "metres: 40" in cli("berth", "set", "quay-2", "name=Second quay", "metres=40")
    assert "Nothing was changed" in cli("berth", "set", "quay-2", "metres=50", "--preview")
    assert [berth["metres"] for berth in json.loads(cli("berth", "list", "--json"))] == [120, 40]
    assert "Second quay" in cli("berth", "list")
    assert "Removed quay-2" in cli("berth", "remove", "quay-2", "--yes")
    assert "500" in start("portero.cli.main", "berth", "set", "quay-2", "metres=501", env=env, expect=2).stderr


def _through_the_routes_and_the_history(http: httpx.Client, made: int) -> None:
    nouns = {one["word"]: one for one in http.get("/nouns").json()}
    assert nouns["berth"]["path"] == "/berths"
    put = {"key": "quay-3", "metres": 30}
    assert http.post("/berths", json=put).status_code == 201
    assert http.post("/berths", json=put).status_code == 409
    assert http.put("/berths/quay-3", json=put).status_code == 428
    assert http.put("/berths/quay-3", json=put, headers={"If-Match": '"r1"'}).status_code == 412
    assert "did you mean “quay-3”" in http.get("/berths/quay-4").json()["detail"]
    about = http.get("/revisions", params={"noun": "berth", "key": "quay-1"}).json()
    assert about["total"] == 2
    told = http.get(f"/revisions/{made + 1}").json()["changes"][0]
    assert told["details"] == ["metres: 120, and 100 before"]
    assert "-metres: 100\n+metres: 120" in told["difference"]
    document = http.get("/estate").json()
    assert [berth["key"] for berth in document["berths"]] == ["quay-1", "quay-3"]
    answer = http.put("/estate", json=document, headers={"If-Match": "*"}).json()
    assert answer["changes"] == []
    # back to before there were any, and forth again
    newest = http.get("/revisions").json()["items"][0]["number"]
    assert http.post(f"/revisions/{made - 1}/restore").status_code == 200
    assert http.get("/berths").json()["total"] == 0
    assert http.post(f"/revisions/{newest}/restore").status_code == 200
    assert http.get("/berths/quay-1").json()["metres"] == 120


def _in_the_console(service: Service, page) -> None:
    page.goto(service.url + "/console/controls/objects/berths")
    page.get_by_label("Name").fill("keeper")
    page.get_by_label("Password").fill(service.password)
    page.keyboard.press("Enter")
    expect(page.get_by_role("navigation", name="Controls").get_by_text("Berths")).to_be_visible()
    expect(page.get_by_role("navigation", name="Berths").get_by_role("link")).to_have_count(2)
    page.get_by_text("First quay").click()
    expect(page.get_by_label("Its document, in JSON")).to_have_value(re.compile('"metres": 120'))
    page.get_by_role("button", name="New berth").click()
    page.get_by_label("Its document, in JSON").fill('{"key": "quay-9", "metres": 77}')
    page.get_by_role("button", name="Make berth").click()
    page.get_by_role("dialog", name="Before you save").get_by_role("button", name="Put in force").click()
    expect(page.get_by_role("navigation", name="Berths").get_by_role("link")).to_have_count(3)
