# SPDX-License-Identifier: GPL-3.0-or-later
"""Settings: what may be typed, what is refused and how it is said; plain dictionaries there and back."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.errors import SettingsError
from pulizia.settings.as_dict import from_dict, schema, to_dict
from pulizia.settings.declare import Choice, Number, declared, default_of
from pulizia.tools.equaliser import EqualiserSettings
from pulizia.tools.hum import HumSettings
from pulizia.tools.noise import NoiseSettings
from pulizia.tools.original import OriginalSettings
from pulizia.tools.registry import ALL
from pulizia.units import Unit

every_number = [(tool, name, d) for tool in ALL for name, d in declared(tool.settings).items() if isinstance(d, Number)]
every_choice = [(tool, name, d) for tool in ALL for name, d in declared(tool.settings).items() if isinstance(d, Choice)]


@pytest.mark.parametrize(
    ("tool", "name", "number"), every_number, ids=lambda x: getattr(x, "id", x if isinstance(x, str) else "")
)
def test_what_is_shown_of_a_number_can_be_typed_again(tool, name: str, number: Number) -> None:
    default = default_of(tool.settings, name)
    for value in {number.low, number.high, *([] if default is None else [default])}:
        again = number.typed(number.text(value))
        assert again == pytest.approx(value, abs=number.step / 2 + 1e-9)
    if number.optional:
        assert number.typed("auto") is None
        assert number.text(None) == "auto"
    assert number.typed("1e9") == number.high
    assert number.typed("-1e9") == number.low
    for words in ("loud", "nan", "inf", "6 apples"):
        with pytest.raises(ValueError, match=words[:4]):
            number.typed(words)
    between = number.typed(f"{number.low + 0.3 * (number.high - number.low):.9f}")
    assert number.check(name, between) is None  # whole ones are rounded
    if number.unit is Unit.HZ:
        assert number.typed("1.5k") == number.typed("1,5 kHz") == number.typed("1500 Hz")
    assert default is None or number.check(name, default) is None


@pytest.mark.parametrize(
    ("tool", "name", "number"), every_number, ids=lambda x: getattr(x, "id", x if isinstance(x, str) else "")
)
def test_numbers_out_of_range_are_refused_with_value_unit_and_range(tool, name: str, number: Number) -> None:
    for wrong in (
        number.high + max(1.0, abs(number.high)),
        number.low - max(1.0, abs(number.low)),
        float("nan"),
        float("inf"),
    ):
        with pytest.raises(SettingsError, match=f"{name} is") as told:
            tool.settings(**{name: wrong})
        assert f"must be between {number.low:g} and {number.high:g}" in str(told.value) or "whole" in str(told.value)
    with pytest.raises(SettingsError, match="must be a number"):
        tool.settings(**{name: "12"})


@pytest.mark.parametrize(
    ("tool", "name", "choice"), every_choice, ids=lambda x: getattr(x, "id", x if isinstance(x, str) else "")
)
def test_choices_take_their_words_and_nothing_else(tool, name: str, choice: Choice) -> None:
    for word, shown in choice.options:
        assert getattr(tool.settings(**{name: word}), name) == word
        assert choice.text(word) == shown
    with pytest.raises(SettingsError, match="must be one of"):
        tool.settings(**{name: "nosuch"})


def test_several_faults_are_told_at_once() -> None:
    with pytest.raises(SettingsError) as told:
        NoiseSettings(reduction_db=90.0, smoothing_ms=-1.0, following="never")
    assert str(told.value).count(";") == 2


def test_unknown_names_are_told_with_the_nearest_known_one() -> None:
    with pytest.raises(SettingsError, match="unknown setting bas_hz; did you mean base_hz"):
        from_dict(HumSettings, {"bas_hz": 50})
    with pytest.raises(SettingsError, match="must be a table"):
        from_dict(HumSettings, [1, 2])


def test_bands_are_read_as_tables_and_as_rows() -> None:
    as_rows = from_dict(EqualiserSettings, {"bands": [["bell", 900, -6, 2]]})
    as_tables = from_dict(EqualiserSettings, {"bands": [{"kind": "bell", "hz": 900, "gain_db": -6, "q": 2}]})
    assert as_rows == as_tables
    assert to_dict(as_rows)["bands"] == [{"kind": "bell", "hz": 900, "gain_db": -6, "q": 2}]
    for wrong in ([["bell", 900]], [["nosuch", 900, 0, 1]], [{"kind": "bell"}], "bell", [["bell", -5, 0, 1]]):
        with pytest.raises(SettingsError):
            from_dict(EqualiserSettings, {"bands": wrong})


@given(st.text(max_size=300))
def test_words_are_short_and_printable_or_refused(text: str) -> None:
    good = len(text) <= 200 and text.isprintable()
    if good:
        assert from_dict(OriginalSettings, {"recording": text}).recording == text
    else:
        with pytest.raises(SettingsError, match="must be a word"):
            from_dict(OriginalSettings, {"recording": text})


@pytest.mark.parametrize("tool", ALL, ids=lambda t: t.id)
def test_the_schema_of_a_tool_is_plain_and_whole(tool) -> None:
    rows = schema(tool.settings)
    assert json.loads(json.dumps(rows)) == rows
    for row in rows:
        assert {"name", "label", "help", "default", "kind"} <= set(row)
        assert row["label"][0].isupper()
        assert row["help"].endswith(".")
    assert from_dict(tool.settings, {row["name"]: row["default"] for row in rows}) == tool.settings()
    assert hash(tool.settings()) == hash(tool.settings())
    for name in declared(tool.settings):
        with pytest.raises(AttributeError):  # a value: nobody changes it under another's hands
            setattr(tool.settings(), name, None)


def test_units_name_their_settings() -> None:
    assert {u.suffix for u in Unit if u.suffix} == {
        "_db",
        "_dbfs",
        "_dbtp",
        "_lufs",
        "_lu",
        "_hz",
        "_ms",
        "_s",
        "_percent",
        "_count",
        "_frames",
    }
