"""Numbers as they are typed, against what they mean."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from usual_clay.core.numbers import NumberError, read_number, read_numbers


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("0,07", "mm", 0.07),
        ("0.07", "mm", 0.07),
        (",5", "", 0.5),
        ("2.", "", 2.0),
        ("12/5", "mm", 2.4),
        ("1 1/2 in", "mm", 38.1),
        ("3 in", "mm", 76.2),
        ('3"', "mm", 76.2),
        ("2 cm", "mm", 20.0),
        ("0,5 m", "mm", 500.0),
        ("1 ft - 2 in", "mm", 254.0),
        ("40 - 2,5", "mm", 37.5),
        ("-3+1", "", -2.0),
        ("\N{MINUS SIGN}4,25", "mm", -4.25),
        ("7 mm", "mm", 7.0),
        ("12,5 %", "%", 12.5),
        ("30°", "°", 30.0),
        ("25.4 mm", "in", 1.0),
    ],
)
def test_what_is_typed_is_what_is_meant(text: str, unit: str, value: float) -> None:
    assert read_number(text, unit) == pytest.approx(value, abs=1e-12)


@pytest.mark.parametrize(
    ("text", "unit"),
    [
        ("", "mm"), ("abc", "mm"), ("1.234,5", "mm"), ("1,234.5", "mm"), ("1 2", "mm"), ("1/0", ""),
        ("3 inch", "mm"), ("3 in", "%"), ("3 kg", "mm"), ("--2", ""), ("2 +", ""), ("1e5", "mm"),
        ("1/2/3", ""), ("0x10", ""), ("nan", "mm"), ("5 3/", "mm"), ("1 mm 2 mm", "mm"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_never_another_number(text: str, unit: str) -> None:
    with pytest.raises(NumberError):
        read_number(text, unit)


@given(st.decimals(-10_000, 10_000, places=4), st.sampled_from(".,"))
def test_comma_and_point_mean_the_same(value: object, sign: str) -> None:
    assert read_number(f"{value}".replace(".", sign)) == pytest.approx(float(str(value)))


def test_several_numbers() -> None:
    assert read_numbers("12, 30.5, 60", "mm") == [12, 30.5, 60]
    assert read_numbers("12,5; 30; 1 in", "mm") == pytest.approx([12.5, 30, 25.4])
    assert read_numbers("12,5, 30,25") == [12.5, 30.25]
    with pytest.raises(NumberError):
        read_numbers("12, x")
