"""The project itself: generated pages are up to date, layers are kept, nothing names a real host."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import run_portero
from portero.core.nouns.membership import FIELDS
from portero.core.nouns.readiness import BlockerCode
from portero.formats.estate_document import read_estate, read_facts

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT / "docs" / "reference"))


def test_the_generated_reference_is_up_to_date(monkeypatch):
    import make

    monkeypatch.setenv("COLUMNS", "100")
    written = (ROOT / "docs/reference/openapi.json").read_text()
    assert make.openapi() == written, "run make reference"
    page = make.command_line().replace(str(Path.home()), "~")
    assert page == (ROOT / "docs/reference/command-line.md").read_text(), "run make reference"
    assert make.ways() == (ROOT / "docs/explanation/why-does-it-not-hold.md").read_text(), "run make reference"


def test_imports_go_one_way():
    done = subprocess.run(
        [str(Path(sys.executable).parent / "lint-imports"), "--no-logo"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
        check=False,
    )
    assert done.returncode == 0, done.stdout


def test_no_class_has_the_name_of_another():
    named: dict[str, list[str]] = {}
    for file in (ROOT / "src").rglob("*.py"):
        for name in re.findall(r"^class (\w+)", file.read_text(), re.MULTILINE):
            if not name.startswith("_"):
                named.setdefault(name, []).append(file.name)
    assert {name: files for name, files in named.items() if len(files) > 1} == {}


def test_the_shipped_index_is_what_its_script_makes_up():
    from portero.demo.making_hosts import made_up_hosts
    from portero.formats.category_index import SHIPPED_INDEX

    lines = SHIPPED_INDEX.read_text().splitlines()[1:]
    assert lines == [f"{host},{categories}" for host, categories in made_up_hosts().items()]
    assert all(re.search(r"\.(example|test)$", host) for host in made_up_hosts())


def test_the_examples_in_the_vocabulary_are_kept():
    text = (ROOT / "docs/vocabulary.md").read_text()
    for word in ("device", "group", "precedence", "ruleset", "assignment", "mandatory", "bundle", "check-in", "caveat"):
        assert f"**{word}" in text or f"{word}**" in text, word


def test_the_how_to_says_what_really_comes_back(tmp_path, monkeypatch):
    page = (ROOT / "docs/how-to/check-a-policy-in-a-pipeline.md").read_text()
    for name, content in re.findall(r"`(\w+\.yaml)`:\n\n```yaml\n(.*?)```", page, re.DOTALL):
        (tmp_path / name).write_text(content)
    command, answer = re.search(r"```console\n\$ portero (.*?)\n(.*?)```", page, re.DOTALL).groups()
    monkeypatch.chdir(tmp_path)
    assert run_portero(*command.split()).stdout == answer


EXAMPLES = (ROOT / "docs/explanation/examples.md").read_text()
BEGINNING = re.search(r"```yaml beginning\n(.*?)```", EXAMPLES, re.DOTALL)[1]
WORKED = re.findall(r"## (.*?)\n.*?```yaml\n(.*?)```\n\n```console\n(.*?)```", EXAMPLES, re.DOTALL)


@pytest.mark.parametrize(("title", "estate", "session"), WORKED, ids=[title for title, _, _ in WORKED])
def test_the_worked_examples_say_what_really_comes_back(title, estate, session, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("facts.yaml").write_text(re.search(r"```yaml facts.yaml\n(.*?)```", EXAMPLES, re.DOTALL)[1])
    Path("estate.yaml").write_text(BEGINNING + estate)
    answers = re.split(r"^\$ portero (.*)\n", session, flags=re.MULTILINE)[1:]
    assert answers
    for command, answer in zip(answers[::2], answers[1::2], strict=True):
        assert run_portero(*shlex.split(command)).stdout == answer, command


def test_the_documents_of_the_reference_are_read():
    page = (ROOT / "docs/reference/estate-document.md").read_text()
    estate, facts = re.findall(r"```yaml\n(.*?)```", page, re.DOTALL)
    assert read_estate(estate.encode()).layer_modes[0].filter == "observing"
    assert read_facts(facts.encode()).devices[0].layer_versions.filter == "0.1.0"
    for field in FIELDS:
        assert f"`{field}`" in page or f"`.{field.rpartition('.')[2]}`" in page, field


def test_every_blocker_is_explained():
    page = (ROOT / "docs/how-to/know-which-machines-enforce.md").read_text()
    assert [code for code in BlockerCode if f"`{code.value}`" not in page] == []
