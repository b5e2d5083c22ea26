"""Merge patches: what is between two documents makes the one of the other; and the RFC's own cases."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.formats.merge_patch import patch_between, patched

VALUES = st.recursive(
    st.integers() | st.text(max_size=3) | st.booleans() | st.lists(st.integers(), max_size=3),
    lambda inner: st.dictionaries(st.sampled_from("abc"), inner, max_size=3),
    max_leaves=8,
)
DOCUMENTS = st.dictionaries(st.sampled_from("abcd"), VALUES, max_size=4)


@given(DOCUMENTS, DOCUMENTS)
def test_a_patch_makes_the_one_of_the_other(before, after):
    assert patched(before, patch_between(before, after)) == after


@pytest.mark.parametrize(
    ("document", "patch", "expected"),
    [
        ({"a": "b"}, {"a": "c"}, {"a": "c"}),
        ({"a": "b"}, {"b": "c"}, {"a": "b", "b": "c"}),
        ({"a": "b", "b": "c"}, {"a": None}, {"b": "c"}),
        ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}),
        ({"a": [{"b": "c"}]}, {"a": [1]}, {"a": [1]}),
        ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}),
    ],
)
def test_the_cases_of_the_standard(document, patch, expected):
    assert patched(document, patch) == expected
