"""Run the service or the demo. The only commands that do not talk through the client."""

from __future__ import annotations

from pathlib import Path

from portero.cli.command import DONE, CommandProblem, Commands, Context, add_data


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
                metrics_port=options.metrics_port,
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


def register(commands: Commands) -> None:
    """Add this family's commands."""
    made = commands.add(
        "serve", serve, "Run the service.", "portero serve --data /var/lib/portero", service=False, json=False
    )
    add_data(made)
    made.add_argument("--host", default="127.0.0.1", help="address to listen on (127.0.0.1)")
    made.add_argument("--port", type=int, default=8642, help="port to listen on (8642; 0 takes a free one)")
    beyond = made.add_argument_group("beyond loopback")
    beyond.add_argument("--tls-certificate", type=Path, metavar="FILE", help="certificate chain, PEM")
    beyond.add_argument("--tls-key", type=Path, metavar="FILE", help="its private key, PEM")
    beyond.add_argument("--behind-proxy", action="store_true", help="a proxy in front gives TLS")
    made.add_argument(
        "--metrics-port", type=int, metavar="PORT", help="tell /metrics on loopback at this port too, without a token"
    )
    made.add_argument("--quiet", action="store_true", help="log warnings and errors only")

    made = commands.add(
        "demo", demo, "Run the demo: Brackwater Ferries.", "portero demo --fresh", service=False, json=False
    )
    made.add_argument("--data", type=Path, default=Path("demo-data"), metavar="DIR", help="its folder (demo-data)")
    made.add_argument("--port", type=int, default=8642, help="port of the service; the next three are used too (8642)")
    made.add_argument("--fresh", action="store_true", help="start over: what the demo held is removed")
    made.add_argument("--no-fleet", action="store_true", help="without the simulated machines")
