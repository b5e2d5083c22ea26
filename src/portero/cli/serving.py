"""Run the service or the demo; sign in; settings. The only commands that do not talk through the client."""

from __future__ import annotations

import getpass
import os
import socket
import sys
from pathlib import Path

import platformdirs

from portero.cli import output
from portero.cli.command import DONE, CommandProblem, Commands, Context
from portero.client import Portero


def serve(context: Context) -> int:
    from portero.service.running import CannotServe, Options, serve  # the service is loaded only where it is run

    options = context.options
    try:
        serve(
            Options(
                data=options.data,
                host=options.host,
                port=options.port,
                tls_certificate=options.tls_certificate,
                tls_key=options.tls_key,
                behind_proxy=options.behind_proxy,
                quiet=options.quiet,
            )
        )
    except CannotServe as problem:
        raise CommandProblem(str(problem)) from problem
    return DONE


def demo(context: Context) -> int:
    from portero.demo.history import DemoProblem
    from portero.demo.running import Demo

    options = context.options
    try:
        Demo(options.data.absolute(), options.port, not options.no_fleet).run(options.fresh)
    except (DemoProblem, OSError) as problem:
        raise CommandProblem(str(problem)) from problem
    return DONE


def sign_in(context: Context) -> int:
    options, url = context.options, str(context.settings.url.value)
    name = options.name or os.environ.get("USER", "")
    if options.password_stdin:
        password = sys.stdin.readline().rstrip("\n")
    else:
        password = getpass.getpass(f"Password of {name} at {url}: ")
    label = f"command line on {socket.gethostname()}"
    with Portero(url) as portero:
        made = portero.sign_in(name, password, label=label, days=options.days)
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
    if context.options.json:
        output.print_json({name: setting._asdict() for name, setting in told.items()})
        return DONE
    rows = [(name, setting.value or "–", setting.source) for name, setting in told.items()]
    output.print_table(("SETTING", "VALUE", "FROM"), rows)
    return DONE


def register(commands: Commands) -> None:
    """Add this family's commands."""
    made = commands.add(
        "serve", serve, "Run the service.", "portero serve --data /var/lib/portero", service=False, json=False
    )
    made.add_argument(
        "--data",
        type=Path,
        default=Path(platformdirs.user_data_dir("portero")),
        metavar="DIR",
        help="where the service keeps its data",
    )
    made.add_argument("--host", default="127.0.0.1", help="address to listen on (127.0.0.1)")
    made.add_argument("--port", type=int, default=8642, help="port to listen on (8642; 0 takes a free one)")
    beyond = made.add_argument_group("beyond loopback")
    beyond.add_argument("--tls-certificate", type=Path, metavar="FILE", help="certificate chain, PEM")
    beyond.add_argument("--tls-key", type=Path, metavar="FILE", help="its private key, PEM")
    beyond.add_argument("--behind-proxy", action="store_true", help="a proxy in front gives TLS")
    made.add_argument("--quiet", action="store_true", help="log warnings and errors only")

    made = commands.add(
        "demo", demo, "Run the demo: Brackwater Ferries.", "portero demo --fresh", service=False, json=False
    )
    made.add_argument("--data", type=Path, default=Path("demo-data"), metavar="DIR", help="its folder (demo-data)")
    made.add_argument("--port", type=int, default=8642, help="port of the service; the next three are used too (8642)")
    made.add_argument("--fresh", action="store_true", help="start over: what the demo held is removed")
    made.add_argument("--no-fleet", action="store_true", help="without the simulated machines")

    made = commands.add(
        "sign-in", sign_in, "Sign in, and keep an API token.", "portero sign-in --name it-desk", json=False
    )
    made.add_argument("--name", help="name of the administrator (the user's own)")
    made.add_argument("--password-stdin", action="store_true", help="read the password from standard input")
    made.add_argument("--days", type=int, default=30, help="how long the token is good (30)")
    commands.add("sign-out", sign_out, "Forget the API token of the profile.", "portero sign-out", json=False)

    settings = commands.noun("settings", "Where the command line gets its settings from.")
    settings.add("show", settings_show, "Show each setting and where it came from.", "portero settings show")
