"""Sign in and out; where the command line gets its settings from."""

from __future__ import annotations

import getpass
import os
import socket
import sys

from portero.cli import output
from portero.cli.command import DONE, Commands, Context, present
from portero.client import Portero


def sign_in(context: Context) -> int:
    options, url = context.options, str(context.settings.url.value)
    name = options.name or os.environ.get("USER", "")
    if options.password_stdin:
        password = sys.stdin.readline().rstrip("\n")
    else:
        password = getpass.getpass(f"Password of {name} at {url}: ")
    label = f"command line on {socket.gethostname()}"
    with Portero(url) as portero:
        made = portero.access.sign_in(name, password, label=label, days=options.days)
    context.settings.keep(url, made.secret)
    profile = context.settings.profile.value
    until = f" until {made.expires_at:%Y-%m-%d}" if made.expires_at else ""
    output.say(f"Signed in to {url} as {name} ({made.role}){until}; kept in profile {profile}.")
    return DONE


def sign_out(context: Context) -> int:
    if context.settings.forget():
        output.say(f"Forgot profile {context.settings.profile.value}.")
    else:
        output.say("Nobody was signed in there.")
    return DONE


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
    made.add_argument("--password-stdin", action="store_true", help="read the password from standard input")
    made.add_argument("--days", type=int, default=30, help="how long the token is good (30)")
    commands.add("sign-out", sign_out, "Forget the API token of the profile.", "portero sign-out", json=False)

    settings = commands.noun("settings", "Where the command line gets its settings from.")
    settings.add("show", settings_show, "Show each setting and where it came from.", "portero settings show")
