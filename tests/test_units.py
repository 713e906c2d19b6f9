"""Durations, shares and sizes are read as people write them."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bystander.errors import UnitError
from bystander.units import (
    TIME_UNITS,
    capital,
    duration_text,
    either,
    listed,
    parse_duration,
    parse_share,
    parse_size,
    quantity_text,
    share_text,
    shortened,
    size_text,
)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("30 s", 30),
        ("250 ms", 0.25),
        ("5 min", 300),
        ("1.5h", 5400),
        (".5 s", 0.5),
        ("2e3 us", 0.002),
        ("7 µs", 7e-6),
    ],
)
def test_durations_are_read(text: str, seconds: float) -> None:
    """A number and a unit make seconds."""
    assert parse_duration(text) == pytest.approx(seconds, rel=1e-12)


@pytest.mark.parametrize(
    "text", ["soon", "30", "30 sec", "-1 s", "", "1 s s", None, 30, True, "inf s", "nan s", "1e999 s"]
)
def test_what_is_no_duration_is_refused_with_an_example(text: object) -> None:
    """Anything else is refused, and the message shows the value and what would be right."""
    with pytest.raises(UnitError, match="is no duration; write for example"):
        parse_duration(text)


@pytest.mark.parametrize(("text", "share"), [("3 %", 0.03), ("3%", 0.03), (0.03, 0.03), ("0.5", 0.5), (1, 1.0)])
def test_shares_are_read(text: object, share: float) -> None:
    """Percent and bare shares are both read."""
    assert parse_share(text) == pytest.approx(share)


@pytest.mark.parametrize("text", [3, "3", "3 percent", "-3 %", None, "a lot", True, [1]])
def test_what_is_no_share_is_refused(text: object) -> None:
    """A bare number above one is refused too: percent was surely meant."""
    with pytest.raises(UnitError, match="is no share"):
        parse_share(text)


def test_sizes_are_read() -> None:
    """Binary and decimal prefixes are told apart."""
    assert parse_size("64 MiB") == 64 * 2**20
    assert parse_size("1.5 kB") == 1500
    with pytest.raises(UnitError, match="64 MiB"):
        parse_size("64 megs")


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (0.0852, "85.2 ms"), (1.2399, "1.24 s"), (200.0, "3 min 20 s"), (7_300.0, "2 h 1 min"), (9.9999e-4, "1.00 ms"),
        (0, "0 s"), (5e-9, "5.00 ns"), (99.99, "1 min 40 s"), (math.nan, "unknown"), (-0.5, "-500 ms"),
    ],
)  # fmt: skip
def test_durations_are_written(seconds: float, text: str) -> None:
    """Seconds become the unit that people would choose, with three digits."""
    assert duration_text(seconds) == text


@given(st.floats(1e-9, 99), st.sampled_from([2, 3, 4]))
def test_written_durations_read_back_within_their_digits(seconds: float, digits: int) -> None:
    """What is written is the number rounded to its digits."""
    number, unit = duration_text(seconds, digits).split(" ")

    assert float(number) * TIME_UNITS[unit] == pytest.approx(seconds, rel=0.51 * 10 ** (1 - digits))


def test_other_quantities_are_written() -> None:
    """Sizes, counts and shares carry their units."""
    assert size_text(12.44 * 2**20) == "12.4 MiB"
    assert size_text(17) == "17 B"
    assert quantity_text(1834.0, "") == "1,834"
    assert quantity_text(97.5, "") == "97.5"
    assert quantity_text(3.25, "knots") == "3.25 knots"
    assert share_text(0.0340) == "3.4 %"
    assert share_text(0.10) == "10 %"


def test_a_name_is_cut_in_its_middle() -> None:
    """Two ports stay apart, and nothing is longer than it may be."""
    names = ["year:port=north", "year:port=south"]

    assert [shortened(name, 16) for name in names] == names
    assert [shortened(name, 10) for name in names] == ["year:…orth", "year:…outh"]
    assert [len(shortened(names[0], most)) for most in range(1, 18)] == [*range(1, 16), 15, 15]


def test_a_list_is_cut_at_its_end() -> None:
    """With how many there are besides."""
    assert listed(["a", "b"], 2) == "a, b"
    assert listed(["a", "b", "c", "d"], 2) == "a, b and 2 more"
    assert listed([], 2) == ""


def test_a_sentence_begins_with_a_capital() -> None:
    """The letters behind stay: CPU is no Cpu."""
    assert capital("time that CPUs took") == "Time that CPUs took"
    assert capital("") == ""


def test_a_choice_ends_in_or() -> None:
    """Of one there is none."""
    assert either(["a", "b", "c"]) == "a, b or c"
    assert either(["a", "b"]) == "a or b"
    assert either(["a"]) == "a"
