import math
import re

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import pendel
from pendel.core.catalogue.declare import ANY
from pendel.core.catalogue.index import kinds
from pendel.core.drive import file
from pendel.core.errors import (
    CircularDefinition,
    DividesByZero,
    DriveProblem,
    ExpressionProblem,
    NotANumber,
    SyntaxProblem,
    UnknownName,
    WrongDimension,
)
from pendel.core.quantities.expressions import Measured, evaluate, names_in, read, renamed, value_in_field
from pendel.core.quantities.named import Names, check_name
from pendel.core.quantities.stepping import stepped
from pendel.core.quantities.units import figure

NAMES = Names({"R_sup": "35 mΩ", "a": "b + 1", "b": "a", "zero": "0 V", "U": "48 V"})


def test_a_quantity_is_turned_from_hertz_to_radians_only_where_it_counts_as_the_field_does():
    names = Names({"f": "50 Hz", "w": "3000 rpm", "below": "50/(1 s)/(1 rad)", "square": "50 Hz^2*(1 s)"})
    assert value_in_field("f", "rad/s", names) == pytest.approx(100 * math.pi)
    assert value_in_field("w", "Hz", names) == pytest.approx(50)
    for name, unit in (("below", "Hz"), ("square", "rad/s")):
        with pytest.raises(ExpressionProblem, match="the other way round"):
            value_in_field(name, unit, names)


@pytest.mark.parametrize(
    ("text", "si"),
    [("0.8/V", 0.8), ("0.8 1/V", 0.8), ("3 1/ms", 3e3), ("12/s", 12.0), ("48 V/2 A", 24.0), ("6/2", 3.0)],
)
def test_reciprocal_units(text, si):
    assert evaluate(read(text), Names({}), text).si == pytest.approx(si)


@pytest.mark.parametrize(
    ("text", "unit", "si"),
    [
        ("2*R_sup", "Ω", 0.07),
        ("48 V", "V", 48.0),
        ("3800 rpm", "rad/s", 3800 * 2 * math.pi / 60),
        ("1.9e-4 kg*m^2", "kg·m²", 1.9e-4),
        ("0.61 mH", "H", 0.61e-3),
        ("0.61", "mH", 0.61e-3),
        ("-2^2 + 3*2", "", 2.0),
        ("0.1042 N*m/A", "V·s/rad", 0.1042),
        ("12\u2009345 V", "V", 12345.0),
        ("1.5 %", "", 0.015),
        ("sqrt(U*U)/2", "V", 24.0),
    ],
)
def test_fields_take_numbers_units_names_and_expressions(text, unit, si):
    assert value_in_field(text, unit, NAMES) == pytest.approx(si, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "problem", "words"),
    [
        ("2*R_supp", UnknownName, "R_sup"),
        ("3 A", WrongDimension, "V"),
        ("U/zero", DividesByZero, "zero"),
        ("a", CircularDefinition, "a → b → a"),
        ("48 V +", SyntaxProblem, "missing"),
        ("(2^2^2)*48 V", SyntaxProblem, "wants brackets"),
        ("2**2*48 V", SyntaxProblem, "written with ^"),
        ("U + 3 A", WrongDimension, "A"),
        ("10^400", NotANumber, "value"),
        ("__import__('os')", SyntaxProblem, "no place"),
    ],
)
def test_problems_name_what_is_wrong(text, problem, words):
    with pytest.raises(problem) as caught:
        value_in_field(text, "V", NAMES)
    assert words in str(caught.value)


@settings(max_examples=400, deadline=None)
@given(st.text(alphabet="0123456789.+-*/^() eERUVmka_=,%°Ωµ·\u2009sinqrt", max_size=40))
def test_reading_any_text_gives_a_value_or_a_sentence(text):
    try:
        result = evaluate(read(text), NAMES, text)
    except ExpressionProblem as problem:
        assert str(problem)
    else:
        assert isinstance(result, Measured)
        assert math.isfinite(result.si)


def test_renaming_touches_names_only():
    assert renamed("2*R + R_a/R", "R", "R_1") == "2*R_1 + R_a/R_1"


SIZES = st.floats(-14, 11).map(lambda power: 10.0**power)


@given(
    SIZES,
    st.sampled_from([1.0, -1.0]),
    st.integers(3, 9),
    st.sampled_from(["A", "V", "F", "s", "m", "rpm", "deg", "", "N·m"]),
)
@example(0.9996, 1.0, 3, "V")
@example(999.996e3, -1.0, 5, "Hz")
@example(12345678.0, 1.0, 4, "")
def test_figures_read_back_to_their_digits_and_are_below_a_thousand_of_their_unit(size, sign, digits, unit):
    text = figure(sign * size, unit, digits)
    assert value_in_field(text, unit, NAMES) == pytest.approx(sign * size, rel=0.51 * 10.0 ** (1 - digits))
    number, _, shown = text.replace("\u2009", "").partition(" ")
    figures = re.sub("[^0-9]", "", number.partition("e")[0]).lstrip("0")
    assert len(figures) <= max(digits, 8)  # whole numbers are written out up to ten millions
    if unit in ("A", "V", "F", "Hz") and 1e-12 <= size < 1e8:
        assert 1 <= abs(float(number.replace("\u2212", "-"))) < 1000 or shown.startswith("M"), text


def test_a_remark_behind_a_value_is_kept_and_counts_for_nothing():
    names = Names({"I": "3 A  # of the sheet"})
    assert value_in_field("2*I # I + 1 kA", "A", names) == 6.0 and value_in_field("5 # was 4 V", "A", names) == 5.0
    assert renamed("2*I # I as rated", "I", "I_r") == "2*I_r # I as rated" and names_in("1 # I") == set()
    assert stepped("5 A # was 4", "A", 2, "0.5", names) == "6 A # was 4"
    for text in ("# nothing", "1 +# 2", "1 # 2\n3"):
        with pytest.raises(ExpressionProblem):
            value_in_field(text, "", names)
    d = pendel.open_example("car_door_drive")
    d.set("speed_pi.K_p", "35 # quick, but quiet")
    d.set_live("speed_pi.K_p")
    assert d.document.cards["speed_pi"].live["K_p"] == ("8.75", "140")
    assert file.from_text(file.to_text(d.document)).cards["speed_pi"].values["K_p"].endswith("# quick, but quiet")
    assert d.run(0.01).kept.end == 0.01


def test_a_unit_is_typed_as_it_stands_beside_its_field():
    """Those of every value, state and signal that there is."""
    parts = kinds().values()
    shown = {v.unit for k in parts for v in k.values} | {
        s.unit for k in parts for s in (*getattr(k, "signals", ()), *getattr(k, "states", ()))
    }
    for text in shown - {"", ANY}:
        assert value_in_field(f"2 {text}", text, Names({})) == pytest.approx(
            value_in_field("2", text, Names({})), rel=1e-12
        ), text
    for name in ("m²", "x³"):
        with pytest.raises(DriveProblem, match="cannot be a name"):
            check_name(name)


@pytest.mark.parametrize(
    ("text", "si"),
    [("0,9 mH", 0.9e-3), ("-1 234,5 V", -1234.5), ("0,123", 0.123), ("3,14*2", 6.28), ("2,5e3", 2500.0)]
    + [("max(0,9)", 9.0), ("3 \u03bcH", 3e-6), ("3 µH", 3e-6), ("4 kOhm", 4e3), ("5 \u2126", 5.0)],
)
def test_figures_are_read_as_they_are_typed_elsewhere(text, si):
    assert evaluate(read(text), {}, text).si == pytest.approx(si)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("1,000 V", "write 1.000 or 1000"),
        ("1, 5", "parts nothing"),
        ("1,5,2", "operator"),
        ("1,234.5 V", "write 1234.5"),
        ("²,0", "no value|missing|operator"),
    ],
)
def test_a_comma_that_may_mean_two_things_is_asked_about(text, words):
    with pytest.raises(ExpressionProblem, match=words):
        read(text)
