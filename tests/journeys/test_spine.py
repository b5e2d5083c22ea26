"""The whole spine with real processes: from a command to a browser that is stopped, and back."""

from __future__ import annotations

import json
import time

import pytest
from playwright.sync_api import Error, expect

from conftest import Process, eventually, start
from portero.demo.web import start_web

pytestmark = [pytest.mark.browser, pytest.mark.process]


@pytest.fixture(scope="module")
def env(service, tmp_path_factory):
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    start(
        "portero.cli.main",
        *("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"),
        env=env,
        input=service.password + "\n",
    )
    return env


@pytest.fixture
def filtered(service, env, tmp_path):
    """A machine that has joined and runs its filter; the filter's port."""
    web = start_web(tmp_path, 0, 0)
    code = json.loads(start("portero.cli.main", "enrol-code", "create", "--json", env=env).stdout)["code"]
    machine = ("--hostname", "mess-01", "--unit", "brackwater/ships/tern", "--kind", "desktop")
    start(
        "portero.endpoint.main",
        "join",
        "--service",
        service.url,
        "--code",
        code,
        "--data",
        tmp_path / "machine",
        *machine,
    )
    running = Process(
        *("portero.endpoint.main", "run", "--data", tmp_path / "machine", "--port", 0, "--user", "watch-2"),
        *("--origin", f"{web[0]},{web[1]}", "--every", 30),
    )
    yield int(running.wait_for(r"127\.0\.0\.1:(\d+)").group(1))
    running.stop()


def test_a_category_is_blocked_reaches_a_machine_stops_a_browser_and_is_explained(
    service, env, filtered, browser_type, browser_type_launch_args, page, capsys
):
    behind = browser_type.launch(**browser_type_launch_args, proxy={"server": f"http://127.0.0.1:{filtered}"})
    visitor = behind.new_context(ignore_https_errors=True).new_page()
    visitor.goto("http://lucky-reef.example/")
    expect(visitor.get_by_text("nothing stopped you")).to_be_visible()

    # a group is made and a category blocked through the command line
    start("portero.cli.main", "group", "create", "ships", "--where", "unit under brackwater/ships", env=env)
    start("portero.cli.main", "ruleset", "create", "no-gambling", "--block", "gambling", env=env)
    start("portero.cli.main", "assign", "no-gambling", "--to", "ships", env=env)
    committed = time.monotonic()
    eventually(lambda: "nothing stopped" not in visitor.goto("http://lucky-reef.example/").text(), timeout=20)
    took = time.monotonic() - committed
    with capsys.disabled():
        print(f"\n  from the change to the refusal in the browser: {took:.2f} s")
    assert took < 10

    # the browser behind the filter: notice over http, refused tunnel over https, allowed page
    expect(visitor.get_by_role("heading")).to_have_text("Your organisation does not open lucky-reef.example")
    expect(visitor.get_by_text("Gambling", exact=True)).to_be_visible()
    reference = visitor.locator("code").inner_text()
    refused = visitor.context.new_page()
    with pytest.raises(Error, match="ERR_TUNNEL_CONNECTION_FAILED"):
        refused.goto("https://lucky-reef.example/")
    visitor.goto("https://fleet-weather.example/")
    expect(visitor.get_by_role("heading")).to_have_text("fleet-weather.example")

    # the console shows the machine as current, the record by its reference, and why
    page.goto(service.url + "/console/activity")
    page.get_by_label("Name").fill("keeper")
    page.get_by_label("Password").fill(service.password)
    page.keyboard.press("Enter")
    page.get_by_label("Reference on a notice").fill(reference)
    expect(page.get_by_role("row")).to_have_count(2)
    expect(page.get_by_role("row").nth(1)).to_contain_text("watch-2")
    page.get_by_role("link", name="mess-01").click()
    expect(page.get_by_text("current", exact=True).first).to_be_visible()
    page.get_by_label("Address to try").fill("http://lucky-reef.example/")
    page.keyboard.press("Enter")
    expect(page.locator(".ladder").first).to_contain_text("no-gambling on ships blocks it")
    told = start("portero.cli.main", "check", "visit", "mess-01", "http://lucky-reef.example/", env=env)
    assert "wins  block  no-gambling on ships: category gambling" in told.stdout

    # the assignment is paused, and the page opens within seconds with nothing restarted
    start("portero.cli.main", "assignment", "pause", "no-gambling--ships", env=env)
    paused = time.monotonic()
    eventually(lambda: "nothing stopped" in visitor.goto("http://lucky-reef.example/").text(), timeout=20)
    with capsys.disabled():
        print(f"  from pausing to the open page: {time.monotonic() - paused:.2f} s")
    assert time.monotonic() - paused < 10
    behind.close()
