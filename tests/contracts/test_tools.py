# SPDX-License-Identifier: GPL-3.0-or-later
"""Promises of every tool in the registry, on a signal with a loud and a quiet half."""

from __future__ import annotations

import inspect
import json
import pkgutil
import re
import sys
from collections.abc import Iterable
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.conftest import voice_in_noise

import pulizia.tools
from pulizia.audio.samples import Samples
from pulizia.audio.source import ArraySource, Source
from pulizia.audio.spans import Span
from pulizia.errors import PuliziaError, SettingsError
from pulizia.project.rows import step_of, step_row
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.recipes import parse_recipe, recipe_text
from pulizia.score.runs import CHUNK_FRAMES
from pulizia.score.steps import Step, make_step
from pulizia.settings.as_dict import from_dict, schema, to_dict
from pulizia.settings.declare import Choice, Number, Switch, declared
from pulizia.tools.base import AnyTool
from pulizia.tools.registry import ALL, SHIPPED, tool_of
from pulizia.tools.ringing import Resonance


def _troubled() -> Samples:
    """A voice with a breath, S sounds, thumps, clicks, cut tops and hum: every tool has something to do."""
    rng = np.random.default_rng(4)
    made = voice_in_noise(5.0, channels=2)
    for at in (60_000, 160_000, 205_000):  # S: treble alone
        hiss = np.diff(rng.normal(0, 0.03, (2, 7201)), axis=1)
        made[:, at : at + 7200] = made[:, at : at + 7200] * 0.1 + hiss * np.hanning(7200)
    for at in (72_500, 168_500, 215_000):
        t = np.arange(5000) / 48_000
        made[:, at : at + 5000] += 0.4 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.03) * np.minimum(1, t / 0.005)
    shape = np.fft.irfft(
        np.fft.rfft(rng.normal(0, 1, (2, 14_400))) / (1 + ((np.fft.rfftfreq(14_400, 1 / 48_000) - 1800) / 1500) ** 2)
    )
    made[:, 31_000:45_400] += 0.018 * shape / shape.std() * np.hanning(14_400)
    for at in (52_011, 64_321, 96_543, 170_123, 190_007):
        made[:, at : at + 6] += 0.3 * rng.choice([-1, 1])
    tops = slice(92_000, 100_000)
    made[:, tops] = np.clip(made[:, tops], -0.13, 0.13)
    return made.astype(np.float32)


SIGNAL = _troubled()
MAINS = 0.01 * sum(np.sin(2 * np.pi * 50 * k * np.arange(SIGNAL.shape[1]) / 48_000) / k for k in range(1, 9))
SIGNAL[:, :92_000] += MAINS[:92_000].astype(np.float32)
SIGNAL[:, 100_000:] += MAINS[100_000:].astype(np.float32)
SHIFT = 61_440  # whole transforms, milliseconds and fiftieths of a second, not whole chunks
ACTING: dict[str, dict[str, object]] = {  # settings with which a tool has something to do
    "channels": {"way": "swap", "delay_ms": 0.51},
    "polarity": {"invert": "all", "offset": "high_pass", "phase_degrees_count": 30.0},
    "limiter": {"gain_db": 12.0},
    "split_compressor": {"threshold_db": -40.0, "high_threshold_db": -50.0},
    "room_tone": {"way": "under", "profile_spans_s": [[3.0, 3.9]]},
    "original": {"recording": "x", "offset_s": -0.1234567, "drift_count": 40.0},
    "equaliser": {"bands": [["bell", 900.0, -6.0, 2.0], ["high-pass", 80.0, 0.0, 12.0]]},
    "ringing": {"extra_hz": 700.0},
    "leveller": {"way": "loudness", "target_lufs": -40.0},
    "breaths": {"sensitivity_db": 6.0},
    "gate": {"threshold_db": -20.0},
    "sibilance": {"aim": "median", "threshold_db": -6.0},
    "areas": {"way": "lower", "areas": [[[0.7, 300.0], [3.9, 4000.0]]]},
}
SLOW = {"voice_sieve"}


def each(tools: Iterable[AnyTool]) -> pytest.MarkDecorator:
    """A test for each tool; those that take seconds are marked so."""
    given = [pytest.param(t, marks=pytest.mark.slow) if t.id in SLOW else t for t in tools]
    return pytest.mark.parametrize("tool", given, ids=lambda t: t.id)


every_tool = each(ALL)
quick_tool = each(t for t in ALL if t.stream is None)


def after(samples: Samples, step: Step, rate: int = 48_000) -> Source:
    other = ArraySource(samples[:, ::-1].copy(), rate)
    return Chain(ArraySource(samples, rate), [step], ChunkCache(), AnalysisStore(), lambda _fingerprint: other).after


def _with_analysis(samples: Samples, analysis: object, tool: str) -> Source:
    class Known(AnalysisStore):
        def get(self, *_a: object) -> object:
            return analysis

    return Chain(ArraySource(samples, 48_000), [make_step(tool, {})], ChunkCache(), Known()).after


def random_settings(tool: AnyTool) -> st.SearchStrategy:
    def values(declaration: object) -> st.SearchStrategy:
        if isinstance(declaration, Number):
            if declaration.whole:
                return st.integers(int(declaration.low), int(declaration.high))
            return st.floats(declaration.low, declaration.high)
        if isinstance(declaration, Choice):
            return st.sampled_from([word for word, _ in declaration.options])
        return st.booleans()

    plain = {n: d for n, d in declared(tool.settings).items() if isinstance(d, Number | Choice | Switch)}
    return st.fixed_dictionaries({n: values(d) for n, d in plain.items()})


def test_every_module_is_registered_once() -> None:
    modules = {m.name for m in pkgutil.iter_modules(pulizia.tools.__path__)} - {
        "base",
        "registry",
        "absent",
        "extensions",
        "finding",
        "noise_finder",
        "noise_gain",
        "noise_survey",
        "tone_finder",
    }
    assert modules == {tool.id for tool in SHIPPED}


@every_tool
def test_names_of_settings_end_with_their_unit(tool: AnyTool) -> None:
    for name, declaration in declared(tool.settings).items():
        if isinstance(declaration, Number) and declaration.unit.suffix:
            assert name.endswith(declaration.unit.suffix)
            assert declaration.help


@quick_tool
@settings(max_examples=6, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_any_allowed_settings_give_finite_sound_of_the_same_shape(tool: AnyTool, data: st.DataObject) -> None:
    step = make_step(tool.id, data.draw(random_settings(tool)))
    made = after(SIGNAL, step).read(0, SIGNAL.shape[1])
    assert made.shape == SIGNAL.shape
    assert made.dtype == np.float32
    assert np.isfinite(made).all()
    assert from_dict(tool.settings, json.loads(json.dumps(to_dict(step.settings)))) == step.settings


@quick_tool
@settings(max_examples=3, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_the_samples_do_not_depend_on_how_they_are_read(tool: AnyTool, data: st.DataObject) -> None:
    step = make_step(tool.id, ACTING.get(tool.id, {}))
    frames = SIGNAL.shape[1]
    whole = after(SIGNAL, step).read(0, frames)
    cuts = sorted(data.draw(st.lists(st.integers(1, frames - 1), min_size=3, max_size=8, unique=True)))
    parts = list(zip([0, *cuts], [*cuts, frames], strict=True))
    order = data.draw(st.permutations(parts))
    source = after(SIGNAL, step)
    read = {part: source.read(*part) for part in order}
    assert np.array_equal(np.concatenate([read[p] for p in parts], axis=1), whole)


PLACED = {
    "fade",
    "reverse",
    "room_tone",
    "room_tail",
    "leveller",
    "original",
}  # what they do depends on where the recording or the stretch begins


@each(t for t in ALL if t.stream is None and t.id not in PLACED)
def test_chunks_join_without_a_seam(tool: AnyTool) -> None:
    """Shifted against the chunks, the same sound gives the same result to -56 dBFS: context suffices."""
    step = make_step(tool.id, {"profile_spans_s": [[5.05, 5.6]]} if tool.id == "noise" else ACTING.get(tool.id, {}))
    lead = np.concatenate([SIGNAL, SIGNAL], axis=1)
    moved = np.concatenate([np.zeros((2, SHIFT), np.float32), lead], axis=1)
    settings_moved = step
    if tool.id == "noise":
        shift = SHIFT / 48_000
        settings_moved = step.with_settings(profile_spans_s=((5.05 + shift, 5.6 + shift),))
    if tool.id == "areas":
        ((a, low), (b, high)) = step.settings.areas[0]
        settings_moved = step.with_settings(areas=(((a + SHIFT / 48_000, low), (b + SHIFT / 48_000, high)),))
    if tool.id in ("ringing", "dull_voice"):  # the same for both: what is learned depends on the whole
        found = (
            (Resonance(700.0, 9.0, 15.0),)
            if tool.id == "ringing"
            else tool.analyse(ArraySource(SIGNAL, 48_000), (), step.settings, lambda _: None)
        )
        a, b = (_with_analysis(x, found, tool.id) for x in (lead, moved))
        difference = a.read(CHUNK_FRAMES, 4 * CHUNK_FRAMES) - b.read(CHUNK_FRAMES + SHIFT, 4 * CHUNK_FRAMES + SHIFT)
        assert 20 * np.log10(np.abs(difference).max() + 1e-12) < -60
        return
    a = after(lead, step).read(CHUNK_FRAMES, 4 * CHUNK_FRAMES)
    b = after(moved, settings_moved).read(CHUNK_FRAMES + SHIFT, 4 * CHUNK_FRAMES + SHIFT)
    assert 20 * np.log10(np.abs(a - b).max() + 1e-12) < -56


@each(t for t in ALL if not t.fills_silence)
def test_silence_stays_silence(tool: AnyTool) -> None:
    silent = np.zeros((2, 120_000), np.float32)
    settings_ = {"profile_levels": [[0, -90], [24_000, -110]]} if tool.id == "noise" else ACTING.get(tool.id, {})
    assert not after(silent, make_step(tool.id, settings_)).read(0, 120_000).any()


@every_tool
def test_outside_its_stretches_and_holes_nothing_changes(tool: AnyTool) -> None:
    step = make_step(tool.id, ACTING.get(tool.id, {}), spans=(Span(30_000, 100_000), Span(150_000, 200_000)))
    step = replace(step, holes=(Span(60_000, 70_000),))
    made = after(SIGNAL, step).read(0, SIGNAL.shape[1])
    same = np.ones(SIGNAL.shape[1], bool)
    for a, b in ((30_000, 60_000), (70_000, 100_000), (150_000, 200_000)):
        same[a:b] = False
    assert np.array_equal(made[:, same], SIGNAL[:, same])
    assert not np.array_equal(made[:, ~same], SIGNAL[:, ~same])
    whole = after(SIGNAL, make_step(tool.id, ACTING.get(tool.id, {}))).read(0, SIGNAL.shape[1])
    steepest, usual = (np.abs(np.diff(x - SIGNAL, axis=1)).max() for x in (made, whole))
    assert steepest <= 1.1 * usual + 0.01  # no click at the edges; what is learned in a stretch may differ a little


@every_tool
def test_channels_that_are_not_chosen_and_switched_off_steps_change_nothing(tool: AnyTool) -> None:
    only_right = replace(make_step(tool.id, ACTING.get(tool.id, {})), channels=(1,))
    made = after(SIGNAL, only_right).read(0, SIGNAL.shape[1])
    assert np.array_equal(made[0], SIGNAL[0])
    assert not np.array_equal(made[1], SIGNAL[1])
    off = make_step(tool.id, {}, enabled=False)
    source = ArraySource(SIGNAL, 48_000)
    assert Chain(source, [off], ChunkCache(), AnalysisStore()).after is source


@quick_tool
@pytest.mark.parametrize("samples", [
    np.zeros((1, 1)), np.ones((1, 3000)), np.sign(np.sin(np.arange(30_000) / 9))[None], np.ones((8, 5000)) * 1e-30,
], ids=["one sample", "constant", "full-scale square", "eight channels near nothing"])  # fmt: skip
@pytest.mark.parametrize("rate", [8000, 192_000])
def test_extreme_sound_gives_finite_sound_or_one_sentence(tool: AnyTool, samples: np.ndarray, rate: int) -> None:
    samples = samples.astype(np.float32)
    sentence = "."
    try:
        made = after(samples, make_step(tool.id, {}), rate).read(0, samples.shape[1])
    except PuliziaError as error:
        made, sentence = samples, str(error)
    assert np.isfinite(made).all()
    assert sentence.endswith(".")


@every_tool
def test_schema_and_recipe_carry_every_setting(tool: AnyTool) -> None:
    names = [row["name"] for row in schema(tool.settings)]
    assert names == list(declared(tool.settings))
    step = make_step(tool.id, ACTING.get(tool.id, {}), spans=(Span(4800, 9600),), band_hz=(100.0, 5000.0))
    for told in (step, replace(step, channels=(0, 2), enabled=False)):
        text = recipe_text("r", (told,), 48_000)
        assert replace(parse_recipe(text, "r.json").steps_for(48_000)[0], id=step.id) == told
    assert json.loads(text)["steps"][0]["channels"] == [1, 3]  # as people count them


def test_wrong_settings_say_which_value_and_what_would_be_allowed() -> None:
    with pytest.raises(SettingsError, match="reduction_db is 90 dB, must be between 0 and 40 dB"):
        make_step("noise", {"reduction_db": 90})
    with pytest.raises(SettingsError, match="unknown setting reducton_db; did you mean reduction_db"):
        make_step("noise", {"reducton_db": 3})
    with pytest.raises(SettingsError, match="did you mean noise"):
        tool_of("noize")


def test_level_reaches_its_peak_linked_or_per_channel() -> None:
    leaning = SIGNAL * np.array([[1.0], [0.25]], np.float32)
    linked = after(leaning, make_step("level", {"peak_dbfs": -6.0})).read(0, leaning.shape[1])
    own = after(leaning, make_step("level", {"peak_dbfs": -6.0, "linked": False})).read(0, leaning.shape[1])
    goal = 10 ** (-6 / 20)
    assert np.abs(linked[0]).max() == pytest.approx(goal, rel=1e-5)
    assert np.abs(linked[1]).max() == pytest.approx(
        goal * np.abs(leaning[1]).max() / np.abs(leaning[0]).max(), rel=1e-4
    )
    assert [np.abs(c).max() for c in own] == pytest.approx([goal, goal], rel=1e-5)
    louder = after(SIGNAL, make_step("level", {"way": "gain", "gain_db": 6.0})).read(0, 1000)
    assert np.allclose(louder, SIGNAL[:, :1000] * 10 ** (6 / 20), rtol=1e-6)


@every_tool
def test_what_is_learned_is_learned_anew_when_a_setting_that_it_reads_changes(tool: AnyTool) -> None:
    """The settings that ``analyse`` (and what it calls in its module with them) reads are those that its key names."""
    module = sys.modules[tool.process.__module__]
    seen, waiting, read = set(), [tool.analyse], set()
    while waiting:
        function = waiting.pop()
        if function in seen or function.__module__ != module.__name__:
            continue
        seen.add(function)
        source = inspect.getsource(function)
        read |= set(re.findall(r"\bsettings\.(\w+)", source))
        called = re.findall(r"\b(\w+)\([^()]*\bsettings\b", source)
        waiting += [f for name in called if inspect.isfunction(f := getattr(module, name, None))]
    assert read & set(declared(tool.settings)) <= set(tool.analysis_fields)
    assert set(tool.analysis_fields) <= set(declared(tool.settings))


@every_tool
def test_what_is_told_of_the_progress_rises_to_no_more_than_all(tool: AnyTool) -> None:
    """The bar that somebody watches: of looking for problems, learning, looking through and finding settings."""
    source, whole = ArraySource((SIGNAL + MAINS).astype(np.float32), 48_000), (Span(0, SIGNAL.shape[1]),)
    step = make_step(tool.id)
    chain = Chain(source, [step], ChunkCache(), AnalysisStore(), lambda _fingerprint: source)
    told: dict[str, list[float]] = {"find": [], "analyse": [], "survey": [], "suggest": []}
    if tool.find is not None:
        tool.find(source, told["find"].append)
    analysis = None
    if tool.stream is None and not tool.other_field:
        analysis = tool.analyse(source, whole, step.settings, told["analyse"].append)
    if tool.survey is not None and not tool.other_field:
        tool.survey(source, chain.after, whole, step.settings, analysis, told["survey"].append)
    if tool.suggest is not None and not tool.other_field:
        tool.suggest(source, whole, step.settings, told["suggest"].append)
    for what, shares in told.items():
        assert all(0.0 <= share <= 1.0 + 1e-9 for share in shares), (what, shares)
        assert shares == sorted(shares), (what, shares)


CLEAN = voice_in_noise(5.0)
BY_HAND: dict[str, dict[str, object]] = {  # where a step acts though it finds nothing, or was told what is not there
    "limiter": {"gain_db": 1.0},
    "clicks": {"mend_s": [[1.0, 1.01]]},
    "overload": {"level_dbfs": -0.5},
}


@each(t for t in ALL if t.survey is not None and not t.other_field)
@pytest.mark.parametrize("case", ["clean", "by hand", "troubled", "acting"])
def test_the_sheet_says_first_that_a_step_does_nothing_and_says_it_of_no_other(tool: AnyTool, case: str) -> None:
    """But for a gate that never opens, which is said first as well."""
    samples = CLEAN if case in ("clean", "by hand") else SIGNAL
    step = make_step(tool.id, {"acting": ACTING, "by hand": BY_HAND}.get(case, {}).get(tool.id, {}))
    source, whole = ArraySource(samples, 48_000), (Span(0, samples.shape[1]),)
    made = after(samples, step)
    analysis = tool.analyse(source, whole, step.settings, lambda _share: None)
    assert tool.survey is not None
    survey = tool.survey(source, made, whole, step.settings, analysis, lambda _share: None)
    changed = not np.array_equal(made.read(0, samples.shape[1]), samples)
    assert survey.stands_first is not changed or "gate" in survey.sentence, survey.sentence


@each(t for t in ALL if not t.other_field)
def test_a_step_for_one_microphone_hears_it_alone_and_leaves_the_others(tool: AnyTool) -> None:
    both = SIGNAL.copy()
    both[0] = SIGNAL[1, ::-1] * 0.3  # another microphone, which has nothing to say in it
    step = replace(make_step(tool.id, ACTING.get(tool.id, {})), channels=(1,))
    made = after(both, step).read(0, both.shape[1])
    np.testing.assert_array_equal(made[0], both[0])
    assert np.abs(made[1] - both[1]).max() > 0 or tool.relates_channels
    if not tool.relates_channels:
        alone = after(both[1:], replace(step, channels=None))
        np.testing.assert_array_equal(made[1:], alone.read(0, both.shape[1]))


def test_a_step_under_an_earlier_id_is_the_same_step() -> None:
    area = {"areas": [[[0.7, 300.0], [3.9, 4000.0]]]}
    assert tool_of("blots") is tool_of("areas")
    assert make_step("blots", area).tool_id == "areas"
    text = json.dumps({"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "blots", "settings": area}]})
    (step,) = parse_recipe(text, "old.json").steps_for(48_000)
    assert (step.tool_id, step.settings) == ("areas", make_step("areas", area).settings)
    row = step_row(step) | {"tool": "blots"}
    assert step_of(row, 48_000, 1).tool_id == "areas"
