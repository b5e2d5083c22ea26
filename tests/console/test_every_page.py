"""Every page, light and dark, is one that everybody can use: axe finds nothing."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

pytestmark = [pytest.mark.browser, pytest.mark.process]

PAGES = (
    "overview",
    "fleet",
    "fleet?kind=server",
    "fleet/groups",
    "fleet/groups/+new",
    "fleet/enrolment",
    "fleet/layers",
    "fleet/restrictions",
    "fleet/coverage",
    "fleet/machines/laptop-2",
    "fleet/machines/laptop-2?tab=readiness",
    "fleet/machines/laptop-2?tab=site-list",
    "fleet/machines/laptop-2?tab=activity",
    "fleet/machines/laptop-2?tab=facts",
    "fleet/machines/laptop-2?tab=history",
    "controls/categories",
    "controls/categories/+new",
    "controls/indicators/fraud-hosts",
    "controls/indicators/+all",
    "controls/sites",
    "controls/startup",
    "controls/application-sets",
    "controls/taxonomy",
    "controls/feeds",
    "controls/corrections",
    "controls/address-lists",
    "controls/catalogue",
    "controls/services",
    "controls/schedules",
    "controls/objects/notices",
    "find?q=laptop",
    "find?q=lucky-reef.example",
    "assignments",
    "assignments/overlaps",
    "verify/findings",
    "verify/runs",
    "verify/probe-sets/acceptance",
    "verify/why",
    "verify/evidence",
    "verify/compare?what=http://gambling.category.test/",
    "verify/why?machine=laptop-2&what=http://gambling.category.test/&expected=block",
    "roll-out",
    "roll-out/pushes",
    "roll-out/history",
    "activity",
    "settings",
    "access",
    "access/administrators",
    "access/audit",
    "nowhere",
)


def test_every_page_is_for_everybody(console, brackwater, looked_at):
    for path in PAGES:
        console.go(f"/{path}")
        expect(console.get_by_role("heading", level=1)).to_be_visible()
        expect(console.get_by_role("progressbar")).to_have_count(0)
        looked_at(path)
