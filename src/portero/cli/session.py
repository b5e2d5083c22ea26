"""Sign in and out; where the command line gets its settings from."""

from __future__ import annotations

import os
import socket
from typing import get_args

from portero.cli import output
from portero.cli.command import DONE, Commands, Context, UsageProblem, present
from portero.cli.passwords import (
    add_password_stdin,
    ask_new_password,
    ask_password,
    change_password,
    own_session,
    with_own_password,
)
from portero.client import Portero
from portero.client.errors import NotAllowed, NotSignedIn, Unreachable
from portero.core.nouns.access import MadeToken, NewToken, Role, Used


def sign_in(context: Context) -> int:
    options, url = context.options, str(context.settings.url.value)
    name = options.name or os.environ.get("USER", "")
    password = ask_password(context, f"Password of {name} at {url}: ")
    label = f"command line on {socket.gethostname()}"
    with Portero(url) as portero:

        def act(password: str) -> MadeToken:
            return portero.access.sign_in(name, password, label=label, days=options.days)

        made = with_own_password(context, portero, name, password, act)
    context.settings.keep(url, made.secret)
    profile = context.settings.profile.value
    until = f"{made.expires_at:%Y-%m-%d}"
    output.say(f"Signed in to {url} as {name} ({made.role}) until {until}; kept in profile {profile}.")
    return DONE


def password(context: Context) -> int:
    options, url = context.options, str(context.settings.url.value)
    with Portero(url, token=context.settings.token.value) as portero:
        name = options.name or (portero.access.who_am_i().name if context.settings.token.value else None)
        if name is None:
            raise UsageProblem("say whose password it is, with --name")
        change_password(
            portero,
            name,
            ask_password(context, f"Present password of {name} at {url}: "),
            ask_new_password(context),
        )
    output.say(f"Changed the password of {name}. Other sessions have ended; tokens are good as before.")
    return DONE


def sign_out(context: Context) -> int:
    if not context.settings.token.value:
        output.say("Nobody was signed in there.")
        return DONE
    ended = _end(context)
    forgotten = context.settings.forget()
    profile = context.settings.profile.value
    output.say(f"{ended} Forgot profile {profile}." if forgotten else ended)
    return DONE


def _end(context: Context) -> str:
    """End the token at the service; what came of it, in words."""
    try:
        with context.client() as portero:
            portero.access.sign_out()
    except NotSignedIn:
        return "The token had ended already."
    except Unreachable as problem:
        return f"The token could not be ended at the service ({problem}); it ends by itself."
    return "Ended the token."


def token_list(context: Context) -> int:
    everybody = context.options.everybody
    with context.client() as portero:
        tokens = portero.access.tokens(everybody=everybody)

    def tell() -> None:
        rows = [(*_whose(token, everybody), token.label, *_times(token)) for token in tokens]
        output.print_table((*_whose_headings(everybody), "FOR", *_TIMES), rows)

    return present(context, tokens, tell)


def token_create(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        made = portero.access.create_token(NewToken(label=options.label, role=options.role, days=options.days))

    def tell() -> None:
        output.say(made.secret)
        output.say(f"May what a {made.role} may, until {made.expires_at:%Y-%m-%d %H:%M} UTC. It is shown this once.")

    return present(context, made, tell)


def token_end(context: Context) -> int:
    id = context.options.id
    with context.client() as portero:
        try:
            portero.access.end_token(id)
        except NotAllowed:
            # a token ends only what it made; its administrator may end more
            with own_session(context) as signed_in:
                signed_in.access.end_token(id)
    return _tell_ended(context, id)


def session_end(context: Context) -> int:
    with own_session(context) as portero:
        portero.access.end_session(context.options.id)
    return _tell_ended(context, context.options.id)


def _tell_ended(context: Context, id: str) -> int:
    return present(context, {"ended": id}, lambda: output.say(f"Ended {id}."))


def session_list(context: Context) -> int:
    everybody = context.options.everybody
    with context.client() as portero:
        sessions = portero.access.sessions(everybody=everybody)

    def tell() -> None:
        if not sessions:
            output.say("Nobody is signed in by a browser." if everybody else "You are signed in by no browser.")
            return
        rows = [(*_whose(session, everybody), *_times(session)) for session in sessions]
        output.print_table((*_whose_headings(everybody), *_TIMES), rows)

    return present(context, sessions, tell)


_TIMES = ("ROLE", "ENDS", "USED", "FROM")


def _whose_headings(everybody: bool) -> tuple[str, ...]:
    return ("ID", "OF") if everybody else ("ID",)


def _whose(used: Used, everybody: bool) -> tuple[str, ...]:
    return (used.id, used.administrator) if everybody else (used.id,)


def _times(used: Used) -> tuple[str, ...]:
    return used.role, f"{used.expires_at:%Y-%m-%d}", output.ago(used.last_used), used.last_from or "–"


def settings_show(context: Context) -> int:
    settings = context.settings
    token = settings.token._replace(value="(kept secret)") if settings.token.value else settings.token
    told = {"profile": settings.profile, "url": settings.url, "token": token}

    def tell() -> None:
        rows = [(name, setting.value or "–", setting.source) for name, setting in told.items()]
        output.print_table(("SETTING", "VALUE", "FROM"), rows)

    return present(context, {name: setting._asdict() for name, setting in told.items()}, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    made = commands.add(
        "sign-in", sign_in, "Sign in, and keep an API token.", "portero sign-in --name it-desk", json=False
    )
    made.add_argument("--name", help="name of the administrator (the user's own)")
    add_password_stdin(made, "the password, and a new one where it is the first,")
    made.add_argument("--days", type=int, default=30, help="how long the token is good (30)")
    out = "End the API token of the profile, and forget it."
    commands.add("sign-out", sign_out, out, "portero sign-out", json=False)

    made = commands.add("password", password, "Change your own password.", "portero password", json=False)
    made.add_argument("--name", help="whose (yours, who is signed in)")
    add_password_stdin(made, "the present password and the new one")

    token = commands.noun("token", "API tokens, by which programs are known.")
    listing = token.add("list", token_list, "List your own tokens.", "portero token list")
    listing.add_argument("--everybody", action="store_true", help="everybody's, for keepers")
    create = token.add(
        "create",
        token_create,
        "Make a token with yours: it may less, and ends no later.",
        'portero token create "nightly report" --role reader --days 90',
    )
    create.add_argument("label", metavar="LABEL", help="what it is for")
    create.add_argument("--role", choices=get_args(Role), help="at most the next lower one to yours, which it is")
    create.add_argument("--days", type=int, default=30, help="how long it is good (30; 365 at most)")
    end = token.add(
        "end",
        token_end,
        "End a token: one of your own, or as a keeper anybody's.",
        "portero token end 3f2a91c07b",
    )
    end.add_argument("id", metavar="ID", help="the token's id")
    add_password_stdin(end, "your own password, for others than yours made,")

    session = commands.noun("session", "Browser sessions.")
    listing = session.add("list", session_list, "List your own browser sessions.", "portero session list")
    listing.add_argument("--everybody", action="store_true", help="everybody's, for keepers")

    end = session.add(
        "end",
        session_end,
        "End a browser session: one of your own, or as a keeper anybody's.",
        "portero session end 91c07b3f2a",
    )
    end.add_argument("id", metavar="ID", help="the session's id")
    add_password_stdin(end, "your own password")

    settings = commands.noun("settings", "Where the command line gets its settings from.")
    settings.add("show", settings_show, "Show each setting and where it came from.", "portero settings show")
