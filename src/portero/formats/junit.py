"""Results of probes as JUnit XML, which build servers read: a suite for each probe set, a case for each probe."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import groupby
from xml.etree.ElementTree import Element, SubElement, tostring

from portero.core.nouns.run import ProbeResult

_FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What XML 1.0 cannot carry."""


def junit(results: Sequence[ProbeResult]) -> bytes:
    """The document. A probe that counts on no machine is skipped; one that fails tells its causes."""
    failed = sum(bool(result.failed) for result in results)
    root = Element("testsuites", name="portero", tests=str(len(results)), failures=str(failed))
    for key, some in groupby(results, key=lambda result: result.set):
        own = list(some)
        suite = SubElement(
            root,
            "testsuite",
            name=key,
            tests=str(len(own)),
            failures=str(sum(bool(result.failed) for result in own)),
            skipped=str(sum(not result.devices for result in own)),
        )
        for result in own:
            _add_case(suite, result)
    document: bytes = tostring(root, encoding="utf-8", xml_declaration=True)
    return document


def _add_case(suite: Element, result: ProbeResult) -> None:
    name = f"{result.number}: {result.name or result.tried}, expect {result.expected}"
    case = SubElement(suite, "testcase", classname=result.set, name=_clean(name))
    if not result.devices:
        SubElement(case, "skipped", message=_clean(result.sentence))
    elif result.failed:
        failure = SubElement(case, "failure", message=_clean(result.sentence), type="unexpected-verdict")
        failure.text = _clean(
            "\n".join(
                f"{cause.devices} machines ({', '.join(cause.examples)}): {cause.code}: {cause.detail} {cause.remedy}"
                for cause in result.causes
            )
        )


def _clean(text: str) -> str:
    return _FORBIDDEN.sub("�", text)
