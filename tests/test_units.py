"""Numbers, rates and lengths as people type them."""

from fractions import Fraction

import pytest

from amberkeel.core.errors import KeelError
from amberkeel.core.units import METRES, maybe_number, typed_length, typed_number, typed_rate


@pytest.mark.parametrize(
    "text, value",
    [
        ("2.45", 2.45), ("2,45", 2.45), (" 7 ", 7.0), ("-3", -3.0), ("−3,5", -3.5), ("+.5", 0.5), (",25", 0.25),
        ("1e3", 1000.0), ("12E-2", 0.12), ("4.", 4.0), (5, 5.0), (0.125, 0.125),
    ],
)  # fmt: skip
def test_a_number_has_a_comma_or_a_point(text, value):
    assert typed_number(text, "Height") == value == maybe_number(text, "Height")


@pytest.mark.parametrize(
    "text", ["", " ", "two", "1.2.3", "1,234.5", "1 2", "0x10", "1_000", "nan", "inf", "1e999", "--1", "9" * 400,
             True, None, [1], {"value": 1}, float("nan"), float("inf"), 10**400],
)  # fmt: skip
def test_what_is_no_number_is_named(text):
    with pytest.raises(KeelError, match="Height: “.{0,40}” is no number") as told:
        typed_number(text, "Height")
    assert "such as 2.45" in str(told.value)


def test_limits_belong_to_the_range_and_nothing_may_be_typed():
    assert [typed_number(v, "Share", 0.0, 1.0) for v in ("0", "1")] == [0.0, 1.0]
    for beyond in ("-0.001", "1.001"):
        with pytest.raises(KeelError, match="Share must lie between 0 and 1"):
            typed_number(beyond, "Share", 0.0, 1.0)
    assert maybe_number(None, "Share") is None and maybe_number("  ", "Share") is None
    with pytest.raises(KeelError, match="between 0 and 1"):
        maybe_number("2", "Share", 0.0, 1.0)


@pytest.mark.parametrize(
    "text, rate",
    [
        ("24", Fraction(24)), ("25", Fraction(25)), (" 30 ", Fraction(30)), ("24000/1001", Fraction(24000, 1001)),
        ("23.976", Fraction(24000, 1001)), ("23,98", Fraction(24000, 1001)), ("29.97", Fraction(30000, 1001)),
        ("59.94", Fraction(60000, 1001)), ("47.952", Fraction(48000, 1001)), ("119.88", Fraction(120000, 1001)),
        ("12.5", Fraction(25, 2)), ("25/2", Fraction(25, 2)), ("1", Fraction(1)), ("1000", Fraction(1000)),
    ],
)  # fmt: skip
def test_a_broadcast_rate_is_the_fraction_that_is_meant(text, rate):
    assert typed_rate(text) == rate


@pytest.mark.parametrize("text", ["", "fast", "24 fps", "24/0", "24/1.5", "-24", "1/2/3", "24e1"])
def test_what_is_no_rate_is_refused(text):
    with pytest.raises(KeelError, match="is no frame rate"):
        typed_rate(text)


@pytest.mark.parametrize("text", ["0", "0.5", "1001", "1/3"])
def test_a_rate_is_one_that_a_camera_may_have(text):
    with pytest.raises(KeelError, match="between 1 and 1000"):
        typed_rate(text)


@pytest.mark.parametrize(
    "text, metres",
    [
        ("2.45", 2.45), ("2,45 m", 2.45), ("245cm", 2.45), ("2450 mm", 2.45), ("8 ft", 2.4384), ("8'", 2.4384),
        ("8 feet", 2.4384), ("6 in", 0.1524), ('6"', 0.1524), ("1 inch", 0.0254), ("1' 2\"", 0.3556),
        ("1' 2 1/2\"", 0.3683), ("1 ft 2 1/2 in", 0.3683), ("3/4 in", 0.01905), ("5′ 7″", 1.7018), ("5’ 7”", 1.7018),
        ("1 m 20 cm", 1.2), ("1M 20CM", 1.2), (3, 3.0),
    ],
)  # fmt: skip
def test_a_length_has_its_unit(text, metres):
    assert typed_length(text, "Width") == pytest.approx(metres, rel=1e-12)


@pytest.mark.parametrize("unit", METRES)
def test_a_bare_length_is_in_the_unit_that_is_meant(unit):
    assert typed_length("1,5", "Width", unit) == pytest.approx(1.5 * METRES[unit])
    assert typed_length("1.5 m", "Width", unit) == pytest.approx(1.5)


@pytest.mark.parametrize(
    "text", ["", "wide", "2 parsec", "2 m x", "1/0 in", "m 2", "2 ft of it", "1 m" * 20, None, True]
)
def test_what_is_no_length_is_named(text):
    with pytest.raises(KeelError, match="Width: “.{0,40}” is no length"):
        typed_length(text, "Width")


@pytest.mark.parametrize("text", ["0", "-1", "0 m", "1e7", "9999999 m"])
def test_a_length_is_above_nothing_and_below_the_absurd(text):
    with pytest.raises(KeelError, match="more than zero"):
        typed_length(text, "Width")
    with pytest.raises(KeelError, match="no unit of length"):
        typed_length("1", "Width", "parsec")
