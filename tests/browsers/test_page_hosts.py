"""Which hosts a page needs, as the real browsers tell: redirects, frames within frames, what styles bring."""

from __future__ import annotations

from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from urllib.parse import urlsplit

import pytest

from portero.core.nouns.errand import PageUse
from portero.endpoint.browsers.visiting import look_really

pytestmark = pytest.mark.browser
PAGES = {
    "page.test": "<link rel=stylesheet href='http://styles.test/'><script src='http://scripts.test/'></script>"
    "<img src='http://images.test/'><iframe src='http://frames.test/'></iframe><p>a page",
    "frames.test": "<iframe src='http://deep.test/'></iframe><img src='http://inner-images.test/'>",
    "deep.test": "<p>deep",
    "styles.test": "@font-face{font-family:x;src:url(http://fonts.test/a.woff2)} body{font-family:x}",
}
ON_THE_WAY = {"/start": "http://login.test/go", "/go": "http://page.test/"}


class Site(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        asked = urlsplit(self.path)
        body = PAGES.get(asked.hostname or "", "").encode()
        self.send_response(302 if asked.path in ON_THE_WAY else 200)
        if asked.path in ON_THE_WAY:
            self.send_header("Location", ON_THE_WAY[asked.path])
        self.send_header("Content-Type", "text/css" if asked.hostname == "styles.test" else "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture(scope="module")
def proxy() -> Iterator[int]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
    Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_port
    server.shutdown()


SHOWN = {
    "page.test": PageUse.PAGE,
    "frames.test": PageUse.FRAME,
    "scripts.test": PageUse.SCRIPT,
    "styles.test": PageUse.STYLE,
    "fonts.test": PageUse.FONT,
    "images.test": PageUse.IMAGE,
}
CHROMIUM_ALONE = {"login.test": PageUse.PAGE, "deep.test": PageUse.FRAME, "inner-images.test": PageUse.IMAGE}


@pytest.mark.parametrize(("family", "wanted"), [("chromium", SHOWN | CHROMIUM_ALONE), ("firefox", SHOWN)])
def test_a_browser_tells_each_host_and_what_it_is_used_for(proxy, family, wanted):
    page = look_really("http://page.test/start", family, proxy)
    assert (page.outcome, page.at_url, page.browser.split("-")[0]) == ("opened", "http://page.test/", family)
    assert {host.host: host.uses[0] for host in page.hosts} == wanted
    assert page.hosts[0].host == "page.test"
