"""Site lists as browsers are handed them."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import get_args

from portero.cli import output
from portero.cli.command import (
    DONE,
    NOT_AS_EXPECTED,
    CommandProblem,
    Commands,
    Context,
    UsageProblem,
    add_change,
    present,
    write_bytes,
)
from portero.cli.documents import add_documents, estate_in, offline
from portero.client import NotFound, Portero
from portero.client.connection import fields_of
from portero.core import wording
from portero.core.insight.offline import UnknownDevice
from portero.core.insight.site_trials import differing, try_sites
from portero.core.nouns.action import Verdict
from portero.core.nouns.browser_list import BrowserList, ListPlatform
from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.errand import NewErrand, PageHost, PageUse
from portero.core.nouns.probe_set import Probe, ProbeSet
from portero.core.nouns.ruleset import RulesetState
from portero.core.nouns.site_trial import MOST_TRIED, SiteTrial, TriedUrl
from portero.formats.policy_files import with_policy_file

MOST_TOLD = 20


def site_list_show(context: Context) -> int:
    found = _found(context)
    return present(context, found, lambda: _tell(found))


def site_list_export(context: Context) -> int:
    """Write the very file; standard output where none is named."""
    options, found = context.options, _found(context)
    name = options.file or "-"
    write_bytes(name, found.file.text.encode(found.file.encoding))
    if name != "-":
        output.say(f"Wrote {name}. {found.sentence}")
        for warning in (*(one.why for one in found.changed), *_of_cut(found)):
            output.note(f"! {warning}")
        output.say(_whereto(found))
    return DONE


def _found(context: Context) -> BrowserList:
    options, documents = context.options, offline(context.options)
    if documents is not None:
        try:
            return with_policy_file(documents.site_list(options.name, options.browser, options.platform))
        except UnknownDevice as problem:
            raise CommandProblem(str(problem)) from problem
    with context.client() as portero:
        # a machine's name, or else a group's
        for part in (portero.devices, portero.groups):
            with suppress(NotFound):
                return part.site_list(options.name, options.browser, platform=options.platform)
    raise CommandProblem(f"There is no machine and no group “{options.name}”.")


def site_list_switch(context: Context) -> int:
    """Begin a list the other way."""
    options = context.options
    with context.client() as portero:
        seen = portero.rulesets.get(options.ruleset)
        made = portero.rulesets.put(portero.rulesets.switched(seen), version=seen.version, reason=options.reason)
    return present(context, made, lambda: output.say(f"{made.key}: {made.sentence}"))


def site_list_try(context: Context) -> int:
    """Try addresses on a ruleset; 3 where some browser does otherwise than the list means."""
    options = context.options
    if bool(options.save) != bool(options.to):
        raise UsageProblem("--save SET and --to GROUP go together: probes say where they are tried")
    if options.estate:
        if options.save:
            raise UsageProblem("--save keeps probes at a service; leave --estate out")
        estate = estate_in(options.estate)
        ruleset = estate.ruleset_by_key.get(options.ruleset)
        if ruleset is None or ruleset.kind != "site":
            raise CommandProblem(f"{options.estate} holds no ruleset of sites “{options.ruleset}”")
        trial = SiteTrial(ruleset=ruleset, urls=tuple(options.visit))
        tried = try_sites(trial, estate.coverage_table, datetime.now(UTC))
    else:
        with context.client() as portero:
            tried = portero.rulesets.try_sites(portero.rulesets.get(options.ruleset), options.visit)
            if options.save:
                _save(portero, tried, options)
    otherwise = list(differing(tried))

    def tell() -> None:
        families = [browser.family for browser in next((one.browsers for one in tried if one.browsers), ())]
        rows = [(one.url, *(_outcome(one, family) for family in families)) for one in tried]
        output.print_table(("ADDRESS", *(family.upper() for family in families)), rows)
        for one in tried:
            if one.problem:
                output.say(f"! {one.url}: {one.problem}")
        if options.save:
            output.say(f"Saved in the probe set {options.save}, as what the list means now.")
        for one in otherwise:
            output.say(f"! {one.url}: the list means to {one.meant}; not every browser can say so.")

    present(context, tried, tell)
    return NOT_AS_EXPECTED if otherwise or any(one.problem for one in tried) else DONE


def _save(portero: Portero, tried: Sequence[TriedUrl], options: argparse.Namespace) -> None:
    """Put what the list means for each address into a probe set, in place of what it said of the same there."""
    new = [Probe(to=options.to, visit=one.url, expect=one.meant) for one in tried if one.meant is not None]
    try:
        seen = portero.probe_sets.get(options.save)
    except NotFound:
        portero.probe_sets.create(ProbeSet(key=options.save, probes=tuple(new)), reason=options.reason)
        return
    named = {(probe.to, probe.visit) for probe in new}
    kept = [probe for probe in seen.probes if (probe.to, probe.visit) not in named]
    changed = ProbeSet.model_validate({**fields_of(seen, ProbeSet), "probes": (*kept, *new)})
    portero.probe_sets.put(changed, version=seen.version, reason=options.reason)


def site_list_hosts(context: Context) -> int:
    """Have a machine open a page, and tell which hosts it needs; 3 where a list would stop one of its pages."""
    options = context.options
    asked = NewErrand(url=options.visit, browser=options.browser)
    with context.client() as portero:
        ruleset = portero.rulesets.get(options.ruleset) if options.ruleset else None
        errand = portero.errands.create(options.device, asked)
        if not options.json:
            output.note(f"{errand.hostname} opens {errand.url} …")
        errand = portero.errands.done(errand)
        page = errand.page
        if page is None:
            raise CommandProblem(f"The machine {errand.hostname} opened no page: {errand.problem}")
        urls = [f"https://{host.host}/" for host in page.hosts if _is_page(host)][:MOST_TRIED]
        tried = portero.rulesets.try_sites(ruleset, urls) if ruleset and urls else []
    by_host = dict(zip((host.host for host in page.hosts if _is_page(host)), tried, strict=False))
    stopped = [host for host, one in by_host.items() if one.meant is Verdict.BLOCK]

    def tell() -> None:
        version = f" {page.version}" if page.version else ""
        output.say(f"{page.browser}{version} on {errand.hostname}: {page.outcome}, at {page.at_url or 'no page'}")
        rows = [
            (host.host, ", ".join(host.uses), f"{host.requests:,}", _by_list(by_host.get(host.host), ruleset))
            for host in page.hosts
        ]
        output.print_table(("HOST", "USED FOR", "REQUESTS", "BY THE LIST"), rows, right=(2,))
        if stopped and ruleset:
            output.say(f"! {ruleset.key} stops {wording.joined(stopped)}.")

    present(context, errand, tell)
    return NOT_AS_EXPECTED if stopped else DONE


def _is_page(host: PageHost) -> bool:
    """Whether it is one that browsers look up in their lists."""
    return not {PageUse.PAGE, PageUse.FRAME}.isdisjoint(host.uses)


def _by_list(tried: TriedUrl | None, ruleset: RulesetState | None) -> str:
    if tried is not None:
        return tried.meant or "–"
    return "not stopped by lists" if ruleset else "–"


def _outcome(tried: TriedUrl, family: str) -> str:
    """What a family makes of it: “block  3 *”, with the rule and its pattern."""
    found = next((browser for browser in tried.browsers if browser.family == family), None)
    if found is None:
        return "–"
    if found.pattern is None:
        return f"{found.verdict}  no pattern"
    return f"{found.verdict}  {found.rule} {found.pattern}" + (f", as {found.got}" if found.got else "")


def _whereto(found: BrowserList) -> str:
    place = (
        f"It goes to {found.file.place}" if found.file.place else f"It is not known where {found.browser} looks for it"
    )
    return f"{place} ({found.file.tried})."


def _of_cut(found: BrowserList) -> list[str]:
    return [f"{found.browser} takes {found.limit:,} entries of each list."] if found.cut else []


def _tell(found: BrowserList) -> None:
    output.say(found.sentence)
    entries = [*(("block", entry) for entry in found.block), *(("allow", entry) for entry in found.allow)]
    if entries:
        output.print_table(("ACTION", "ENTRY"), [(output.mark(action), entry) for action, entry in entries[:MOST_TOLD]])
    if len(entries) > MOST_TOLD:
        output.say(f"and {len(entries) - MOST_TOLD:,} more; --json has them all")
    _tell_needless(found)
    for one in found.changed:
        output.say(f"! {one.why}")
    if found.cut:
        shown = ", ".join(found.cut[:MOST_TOLD])
        more = f" and {len(found.cut) - MOST_TOLD:,} more" if len(found.cut) > MOST_TOLD else ""
        output.say(f"! Cut off, as {found.browser} takes {found.limit:,} entries of each list: {shown}{more}")
    output.say(_whereto(found))


def _tell_needless(found: BrowserList) -> None:
    if found.needless:
        output.say()
        rows = [
            (output.mark(one.action), one.pattern, one.by or "nothing that is blocked")
            for one in found.needless[:MOST_TOLD]
        ]
        output.print_table(("NEEDLESS", "PATTERN", "AS THIS SAYS THE SAME"), rows)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    lists = commands.noun("site-list", "Site lists as browsers are handed them.")
    show = lists.add(
        "show",
        site_list_show,
        "What a browser of a machine or group is handed, and what became of patterns on the way.",
        "portero site-list show kiosks --browser firefox",
    )
    export = lists.add(
        "export",
        site_list_export,
        "Write the very policy file, as for machines without an agent.",
        "portero site-list export kiosks list.reg --browser chromium --platform windows",
        json=False,
    )
    switch = lists.add(
        "switch",
        site_list_switch,
        "Turn “everything is open but these” into “nothing is open but these”, or back.",
        "portero site-list switch mess-sites --preview",
    )
    switch.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    add_change(switch)
    tried = lists.add(
        "try",
        site_list_try,
        "What browsers would make of addresses under a ruleset of sites, side by side.",
        "portero site-list try kiosk-sites https://tickets.brackwater.example/staff",
    )
    tried.add_argument("ruleset", metavar="RULESET", help="key of the ruleset")
    tried.add_argument("visit", metavar="ADDRESS", nargs="+", help="a URL, or a host")
    hosts = lists.add(
        "hosts",
        site_list_hosts,
        "Have a machine open a page in its own browser, and tell which hosts the page needs.",
        "portero site-list hosts tidewren-mess-02 https://harbour-radio.example/ --ruleset mess-sites",
    )
    hosts.add_argument("device", metavar="MACHINE", help="hostname or id")
    hosts.add_argument("visit", metavar="ADDRESS", help="a URL, or a host")
    hosts.add_argument("--browser", choices=get_args(BrowserFamily), help="in which one; else the first that it has")
    hosts.add_argument("--ruleset", metavar="RULESET", help="say what this list of sites makes of them")
    tried.add_argument("--estate", metavar="FILE", help="in this estate document, without a service")
    tried.add_argument(
        "--save", metavar="SET", help="keep them as probes in this probe set, as the list means them now"
    )
    tried.add_argument("--to", metavar="GROUP", help="with --save: the group on whose machines they are tried")
    add_change(tried)
    for made in (show, export):
        made.add_argument("name", metavar="NAME", help="hostname or id of a machine, or key of a group")
        made.add_argument("--browser", default="chromium", help="name of the browser, as machines report it (chromium)")
        made.add_argument(
            "--platform",
            choices=get_args(ListPlatform),
            help="in the form of this platform; else the machine's, or linux",
        )
        add_documents(made)
    export.add_argument("file", metavar="FILE", nargs="?", help="where to write it; else standard output")
