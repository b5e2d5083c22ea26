"""Draw the screenshots of the README anew, from the demo estate: `make screenshots`.

Pages come from headless Chromium, terminal views from a real terminal window on a virtual screen.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Browser, Page, expect, sync_playwright

from portero.client import Portero
from portero.core.nouns.run import NewRun
from portero.demo.history import ADMINISTRATOR, PASSWORD, machine_folder
from portero.demo.people_and_machines import HANDS_ON

HERE = Path(__file__).parent
BIN = Path(sys.executable).parent
PORT = 8742
URL = f"http://127.0.0.1:{PORT}"
SIZE = {"width": 1280, "height": 800}
SETTLED = 235
"""So many machines hold their newest bundle once the demo is up; the others are silent on purpose."""

DRAWN = {
    "overview",
    "fleet",
    "board",
    "findings",
    "history",
    "preview",
    "machine",
    "site-list-dark",
    "runs",
    "why",
    "observed",
    "feeds",
    "roll-out",
    "activity",
}

TERMINALS = {
    "terminal-check": (
        f"portero check visit {HANDS_ON} https://reeltide.example/",
        f"portero blocks {HANDS_ON} | tail -22",
    ),
    "terminal-readiness": (
        "portero readiness | head -17",
        "portero group edit pilot --pin-in office-laptop-04 --preview",
        "portero layers show",
    ),
    "terminal-site-list": (
        "portero site-list show kiosks --browser firefox",
        "portero site-list try kiosk-sites tickets.brackwater.example/staff find.example reeltide.example",
        f"portero push {HANDS_ON}",
        f"portero device show {HANDS_ON} | grep -A2 ^BROWSER",
        "portero-endpoint visit --real --data $MACHINE --browser firefox http://slipway-auctions.example/",
    ),
    "terminal-verify": (
        "portero verify kiosk-duties ship-life | head -24",
        "portero why workshop-diag-03 http://lucky-reef.example/",
    ),
}


@contextmanager
def demo(folder: Path) -> Iterator[None]:
    """The demo, up and with its machines settled."""
    command = [BIN / "portero", "demo", "--fresh", "--data", folder, "--port", str(PORT)]
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    try:
        deadline = time.monotonic() + 180
        while time.monotonic() < deadline:
            try:
                with Portero(URL) as portero:
                    portero.access.sign_in(ADMINISTRATOR, PASSWORD, label="screenshots")
                    while portero.devices.rollout().current < SETTLED:
                        time.sleep(1)
                    portero.runs.create(NewRun(), wait=20)
                break
            except Exception:
                time.sleep(1)
        yield
    finally:
        running.terminate()
        running.wait(30)


def pages(browser: Browser, scheme: str) -> Iterator[tuple[str, Page]]:
    """The console's pages, signed in; each with the name of its picture."""
    context = browser.new_context(viewport=SIZE, color_scheme=scheme, reduced_motion="reduce", locale="en-GB")
    page = context.new_page()
    page.goto(f"{URL}/console/")
    page.get_by_label("Name").fill(ADMINISTRATOR)
    page.get_by_label("Password").fill(PASSWORD)
    yield "sign-in", page
    page.keyboard.press("Enter")
    page.get_by_role("region", name="Filter").wait_for()
    yield "overview", settled(page)
    for name, path, shown in (
        ("fleet", "/fleet", "eastquay-desk-01"),
        ("board", "/assignments?groups=crew-mess,satellite", "meet on"),
        ("findings", "/verify/findings", "What would settle it"),
        ("history", "/roll-out/history/45", "as a document"),
    ):
        page.goto(f"{URL}/console{path}")
        page.get_by_text(shown).first.wait_for()
        yield name, settled(page)
    page.goto(f"{URL}/console/fleet/machines/{HANDS_ON}")
    page.get_by_label("Address to try").fill("https://reeltide.example/live")
    page.keyboard.press("Enter")
    page.locator(".ladder").first.wait_for()
    yield "machine", settled(page)
    for name, path, shown in (
        ("runs", "/verify/runs", "come out as expected"),
        ("why", f"/verify/why?machine={HANDS_ON}&what=https://reeltide.example/&expected=block", "the cause"),
        ("feeds", "/controls/feeds/relays", "Said before"),
    ):
        page.goto(f"{URL}/console{path}")
        page.get_by_text(shown).first.wait_for()
        yield name, settled(page)
    page.goto(f"{URL}/console/verify/runs/{observed()}")
    page.get_by_text("What each saw").nth(0).click()
    page.get_by_role("table").get_by_role("row").nth(2).wait_for()
    yield "observed", settled(page)
    page.goto(f"{URL}/console/controls/sites/mess-sites")
    tried = ("https://harbour-radio.example/schedule/studio", "harbour-radio.example/schedule", "other.example")
    page.get_by_label("Addresses, one a line").fill("\n".join(tried))
    page.get_by_text("meant to block").wait_for()
    page.get_by_text("no pattern holds it").last.scroll_into_view_if_needed()
    yield "site-list", settled(page)
    page.goto(f"{URL}/console/controls/categories/quiet-link")
    page.get_by_label("Pause quiet-link--satellite").click()
    page.get_by_role("dialog").get_by_text("machines change").wait_for()
    page.wait_for_timeout(500)
    yield "preview", page
    with Portero(URL) as portero:
        portero.access.sign_in(ADMINISTRATOR, PASSWORD, label="screenshots")
        state = portero.assignments.get("quiet-link--satellite").state
        portero.assignments.set_state("quiet-link--satellite", "paused" if state == "active" else "active")
        page.goto(f"{URL}/console/roll-out")
        page.get_by_role("row").nth(1).wait_for()
        yield "roll-out", settled(page)
        page.goto(f"{URL}/console/activity")
        page.get_by_role("row").nth(1).wait_for()
        yield "activity", settled(page)
        portero.assignments.set_state("quiet-link--satellite", state)
    context.close()


def observed() -> int:
    """The number of a run in which machines really try."""
    with Portero(URL) as portero:
        portero.access.sign_in(ADMINISTRATOR, PASSWORD, label="screenshots")
        new = NewRun(sets=("kiosk-duties", "real-machine"), kind="observed", seconds=40)
        *_, run = portero.runs.follow(new)
        return run.id


def settled(page: Page) -> Page:
    """The page once nothing on it waits for data any more."""
    page.get_by_role("heading", level=1).wait_for()
    expect(page.locator("[aria-busy=true], .placeholder")).to_have_count(0)
    page.evaluate("document.fonts.ready")
    return page


def draw_pages(names: set[str]) -> None:
    """Pictures of the console, light and (a site list) dark, and of the notice behind the filter."""
    with sync_playwright() as playwright:
        launch = {"executable_path": "/usr/bin/chromium", "args": ["--no-sandbox", "--disable-gpu", "--disable-quic"]}
        browser = playwright.chromium.launch(**launch)
        for name, page in pages(browser, "light"):
            if name in names:
                page.screenshot(path=HERE / f"{name}.png")
        for name, page in pages(browser, "dark"):
            if f"{name}-dark" in names:
                page.screenshot(path=HERE / f"{name}-dark.png")
        browser.close()
        browser = playwright.chromium.launch(**launch, proxy={"server": f"http://127.0.0.1:{PORT + 3}"})
        page = browser.new_page(viewport={"width": 1280, "height": 640})
        page.goto("http://lucky-reef.example/slots")
        page.screenshot(path=HERE / "notice.png")
        browser.close()


def draw_terminals(folder: Path) -> None:
    """Pictures of commands in a terminal window of 104 columns."""
    env = {
        **os.environ,
        "PATH": f"{BIN}:{os.environ['PATH']}",
        "XDG_CONFIG_HOME": str(folder / "config"),
        "MACHINE": str(machine_folder(folder / "demo", HANDS_ON)),
    }
    sign_in = [BIN / "portero", "sign-in", "--url", URL, "--name", ADMINISTRATOR, "--password-stdin"]
    subprocess.run(sign_in, input=PASSWORD + "\n", text=True, env=env, check=True, stdout=subprocess.DEVNULL)
    display = ":97"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp"], env=env)
    env["DISPLAY"] = display
    try:
        time.sleep(1)
        for name, commands in TERMINALS.items():
            script = "".join(f"printf '%s\\n' {shlex.quote('$ ' + command)}; {command}; echo; " for command in commands)
            done = folder / f"{name}.done"
            look = (
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                "11",
                "-geometry",
                "140x43+0+0",
                "-bg",
                "#151a22",
                "-fg",
                "#ece7dc",
            )
            window = subprocess.Popen(
                ["xterm", *look, "-b", "12", "+sb", "-e", "sh", "-c", f"tput civis; {script} touch {done}; sleep 60"],
                env=env,
            )
            while not done.exists():
                time.sleep(0.2)
            time.sleep(1)
            subprocess.run(["scrot", "--overwrite", HERE / f"{name}.png"], env=env, check=True)
            window.terminate()
            window.wait(10)
    finally:
        screen.terminate()
        screen.wait(10)


def main() -> None:
    """Draw them all."""
    missing = [one for one in ("Xvfb", "xterm", "scrot") if not shutil.which(one)]
    if missing:
        raise SystemExit(f"missing: {', '.join(missing)}; “make screenshots” installs them")
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        with demo(folder / "demo"):
            draw_terminals(folder)
            draw_pages(DRAWN)


if __name__ == "__main__":
    main()
