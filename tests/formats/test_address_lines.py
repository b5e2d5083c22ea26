"""Addresses in pasted text and in CSV."""

from __future__ import annotations

from portero.formats.address_lines import read_addresses


def test_words_of_lines_are_addresses_each_once_and_comments_are_left_out():
    text = "# ours\na.example, b.example\n\n  https://c.example/x#y ;\na.example # again\n"
    assert read_addresses(text) == ["a.example", "b.example", "https://c.example/x#y"]


def test_of_csv_it_is_the_first_column_without_its_heading():
    text = 'Host,category\na.example,shopping\n"b.example",2026\n,nothing\n#c.example,\n'
    assert read_addresses(text, is_csv=True) == ["a.example", "b.example"]
    assert read_addresses("only.example,x", is_csv=True) == ["only.example"]
