"""Lists of machines as CSV: good ones come through, each bad line is told with its number."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from portero.formats.device_list import MOST_LINES, read_device_list
from portero.formats.places import BadDocument


def problems(data: bytes | str) -> list[tuple[int, str, str]]:
    with pytest.raises(BadDocument) as told:
        read_device_list(data.encode() if isinstance(data, str) else data)
    return [(problem.line, ".".join(map(str, problem.path)), problem.message) for problem in told.value.problems]


def test_a_list_is_read_with_labels_system_and_the_number_of_each_line():
    listed = read_device_list(
        "\ufeffhostname,kind,unit,serial,os.family,os.version,labels.wave\r\n"
        "Till-01,other,brackwater/terminals,T-1,linux,12.4,first\r\n"
        "\r\n"
        '"till-02",,,,,,"second, late"\r\n'.encode()
    )
    assert [line for line, _ in listed] == [2, 4]
    first, second = (device for _, device in listed)
    assert (first.hostname, first.kind, first.unit, first.serial) == ("till-01", "other", "brackwater/terminals", "T-1")
    assert (first.os.family, first.os.version, first.labels) == ("linux", "12.4", {"wave": "first"})
    assert (second.kind, second.os, second.labels) == ("other", None, {"wave": "second, late"})


def test_columns_stand_in_any_order_and_unknown_ones_are_refused_with_the_nearest():
    assert read_device_list(b"kind,hostname\nkiosk,k-1\n")[0][1].kind == "kiosk"
    assert problems("hostname,knd\nk-1,kiosk\n")[0][2].startswith("there is no column “knd”; did you mean “kind”?")
    assert "must name the column “hostname”" in problems("kind,unit\nkiosk,a\n")[0][2]


@pytest.mark.parametrize(
    ("line", "field", "told"),
    [
        ("a b,kiosk,x", "hostname", "is not a hostname"),
        ("ok,oven,x", "kind", "laptop, kiosk"),
        ("ok,kiosk,/x", "unit", "is no unit"),
        (",kiosk,x", "hostname", "is missing"),
        ("ok,kiosk,x,more", "", "not as many cells as the heading"),
        ("ok,kiosk", "", "not as many cells as the heading"),
    ],
)
def test_each_bad_line_is_told(line, field, told):
    (found,) = problems(f"hostname,kind,unit\ngood,kiosk,x\n{line}\n")
    assert (found[0], found[1]) == (3, field)
    assert told in found[2]


def test_all_bad_lines_are_told_at_once():
    assert [line for line, _, _ in problems("hostname\na b\ngood\nc d\n")] == [2, 4]


def test_what_is_no_list_is_told():
    assert "UTF-8" in problems(b"hostname\n\xff\n")[0][2]
    assert "names no machine" in problems("hostname\n")[0][2]
    assert "not CSV" in problems('hostname\n"open')[0][2]
    long = "hostname\n" + "".join(f"m-{n}\n" for n in range(MOST_LINES + 2))
    assert "split the list" in problems(long)[-1][2]


@settings(max_examples=200)
@given(st.one_of(st.binary(max_size=200), st.text(max_size=200).map(lambda text: ("hostname,kind\n" + text).encode())))
def test_any_bytes_are_read_or_refused(data):
    try:
        for line, device in read_device_list(data):
            assert line >= 2
            assert device.hostname
    except BadDocument as refused:
        told = refused.problems
        assert told
