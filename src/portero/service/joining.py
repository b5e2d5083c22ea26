"""`/join`: the page that a person on a new machine follows. It needs no sign-in; the code is what they bring."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.responses import FileResponse
from pydantic import Field

from portero.core import wording
from portero.core.nouns.base import Noun
from portero.service.guessing import code_guessers, too_many
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.secrets import hash_secret
from portero.store import enrolment_codes

PAGES = Path(__file__).parent / "pages"
_FILES = {"join.css": "text/css", "join.js": "text/javascript"}


class OfferedCode(Noun):
    """An enrolment code that somebody was given."""

    code: str = Field(min_length=1, max_length=40)


class CodeTold(Noun):
    """What the code is good for, in words."""

    sentence: str


def install(app: FastAPI) -> None:
    """Serve the page, its two files, and the look at a code."""

    @app.get("/join", include_in_schema=False)
    async def page() -> FileResponse:
        return FileResponse(PAGES / "join.html", headers={"Cache-Control": "no-cache"})

    @app.get("/join/{name}", include_in_schema=False)
    async def file(name: str) -> FileResponse:
        if name not in _FILES:
            raise Refusal("not-found", f"There is nothing at /join/{name[:80]}.")
        return FileResponse(PAGES / name, media_type=_FILES[name], headers={"Cache-Control": "no-cache"})

    @app.post("/join/check", include_in_schema=False)
    def check(body: OfferedCode, request: Request) -> CodeTold:
        keepers: Keepers = app.state.keepers
        guessers, now = code_guessers(request.client.host if request.client else ""), keepers.now()
        if (wait := keepers.guessing.wait(guessers)) > 0:
            raise too_many(wait, "Too many wrong codes")
        with keepers.store.reading() as connection:
            found = enrolment_codes.code_by_hash(connection, hash_secret(body.code.strip().upper()), now)
        if found is None or found.state != "good":
            keepers.guessing.wrong(guessers)
            state = f"is {found.state}" if found else "is not known; look for a slip of the pen"
            raise Refusal("not-found", f"This code {state}. Ask your help desk for a new one.")
        machine = f"for {found.device}" if found.device else f"for {wording.counted(found.uses_left, 'machine')}"
        return CodeTold(sentence=f"This code is good {machine} until {found.expires_at:%Y-%m-%d %H:%M} UTC.")
