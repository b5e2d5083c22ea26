"""No sentence of a validator reaches anybody: every field of every noun, given what it does not take."""

from __future__ import annotations

import pkgutil
import re
from importlib import import_module

import pytest
from pydantic import BaseModel, TypeAdapter, ValidationError

from portero.core import nouns
from portero.core.nouns.faults import PATTERNS, fault_at, fault_of

for module in pkgutil.iter_modules(nouns.__path__):
    import_module(f"portero.core.nouns.{module.name}")


def _models(of: type[BaseModel]) -> set[type[BaseModel]]:
    below = set(of.__subclasses__())
    return below.union(*map(_models, below))


MODELS = sorted(
    (one for one in _models(BaseModel) if one.__module__.startswith("portero.core.nouns")), key=lambda one: one.__name__
)
WRONG = [
    *(None, "", " ", "x", "Not A Key", "x" * 20_000, "é", "\ud800", "2026-13-45", "2026-11-28T10:00:00", "25:61", "-"),
    *(-1, 0, 1, 10**30, 1.5, float("nan"), True, [], [1, 2], ["x", "x"], {}, {"x": 1}, {"all": [{"field": "kind"}]}),
]
RAW = re.compile(
    r"Input should|String should|should have|should be|Field required|Value error"
    r"|valid (dictionary|string|integer|list)|pydantic|type=|Extra inputs|Assertion|unable to|Unable to|Expected|got "
)


@pytest.mark.parametrize("model", MODELS, ids=[model.__name__ for model in MODELS])
def test_what_a_field_does_not_take_is_told_in_our_words(model):
    for name, field in model.model_fields.items():
        for wrong in WRONG:
            try:
                model.model_validate({field.alias or name: wrong})
            except ValidationError as problem:
                for error in problem.errors():
                    told = fault_of(error)
                    assert not RAW.search(told), (name, wrong, error["type"], told)
                    assert not told.endswith("."), (name, told)
    for whole in (None, "x", 1, []):
        with pytest.raises(ValidationError) as refused:
            model.model_validate(whole)
        assert not RAW.search(fault_of(refused.value.errors()[0]))


def test_every_form_that_a_text_may_have_is_spelt_out():
    for model in MODELS:
        schema = str(TypeAdapter(model).json_schema())
        found = {pattern.replace("\\\\", "\\") for pattern in re.findall(r"'pattern': '([^']*)'", schema)}
        assert found <= set(PATTERNS), (model.__name__, found - set(PATTERNS))


@pytest.mark.parametrize(
    ("path", "fault", "told"),
    [
        ((), "is missing", "is missing"),
        (
            ("check_in_seconds",),
            "14 is too little: 15 at the least",
            "check in seconds 14 is too little: 15 at the least",
        ),
        (("members", "all", 0, "value"), "“x” is not a list", "members, all, 1: value “x” is not a list"),
        (("rules", 1), "a rule names exactly one thing", "rules, 2: a rule names exactly one thing"),
    ],
)
def test_where_it_is_stands_before(path, fault, told):
    assert fault_at(path, fault) == told
