# SPDX-License-Identifier: GPL-3.0-or-later
"""Golden figures: what every tool and every measure makes of two fixed sounds, as a few numbers each.

    python -m tests.golden.figures        write tests/golden/figures.json anew, after a change that was meant

The standards' tolerances say what is right; these say what has changed.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import fields, is_dataclass
from enum import Enum
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from tests.golden.pairs import pairs
from tests.golden.sounds import OTHER_RATE, RATE, spoiled, strange, voice

from pulizia import api
from pulizia.audio.samples import Samples
from pulizia.audio.source import ArraySource, Source
from pulizia.audio.spans import Span
from pulizia.dsp.stft import hann_window, powers
from pulizia.errors import PuliziaError
from pulizia.inspection.inspect import inspect
from pulizia.measure import (
    bandwidth,
    best_microphone,
    decay,
    dialogue,
    figures,
    frequency_axis,
    harm,
    line_up,
    loudness,
    noise_changes,
    noise_floor,
    overview,
    phrases,
    readings,
    s_sounds,
    same_sound,
    same_words,
    sonogram,
    spectrum,
    speech_activity,
    speech_spans,
    steady_tones,
    voices,
)  # fmt: skip
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.media.open import open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.settings.declare import Choice, Number, Switch, declared
from pulizia.tools.base import AnyTool
from pulizia.tools.registry import SHIPPED

FILE = Path(__file__).with_name("figures.json")
EDGES_HZ = (60.0, 200.0, 600.0, 1800.0, 5000.0, 16_000.0)
SLICES = 4
LEFT_OUT = {"voice_sieve", "original"}  # a model of another package; another recording
BASE: dict[str, dict[str, Any]] = {
    "noise": {"profile_spans_s": [[0.05, 0.9]]},
    "areas": {"areas": [[[2.0, 900.0], [2.6, 2400.0]], [[4.0, 100.0], [4.3, 9000.0]]]},
    "equaliser": {"bands": [["high-pass", 90, 0, 18], ["bell", 300, -4, 2], ["high shelf", 6000, 3, 0.7], ["notch", 1000, 0, 8]]},
    "split_compressor": {"threshold_db": -38.0, "low_mid_threshold_db": -40.0, "high_threshold_db": -46.0},
    "limiter": {"gain_db": 12.0},
}  # fmt: skip


def digest(value: Any) -> Any:  # noqa: PLR0911 - a kind of value in each line
    """Any result as numbers, words and lists of them."""
    if value is None or isinstance(value, str | bool | int):
        return value
    if isinstance(value, float | np.floating):
        return round(float(value), 5) if math.isfinite(value) else str(value)
    if isinstance(value, np.integer | np.bool_):
        return int(value)
    if isinstance(value, Enum):
        return value.name
    if isinstance(value, np.ndarray):
        return [list(value.shape), *_figures_of(value)]
    if is_dataclass(value):
        return {f.name: digest(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, dict):
        return {str(k): digest(v) for k, v in value.items()}
    if isinstance(value, list | tuple | Iterator):
        return [digest(v) for v in value]
    return type(value).__name__


def _figures_of(array: np.ndarray) -> list[Any]:
    if array.dtype.kind not in "fiubc" or not array.size:
        return []
    flat = np.abs(array).ravel().astype(np.float64) if array.dtype.kind == "c" else array.ravel().astype(np.float64)
    flat = flat[np.isfinite(flat)]
    if not flat.size:
        return ["nothing"]
    turned = float((flat * np.cos(np.arange(flat.size) * 0.37)).mean())  # order counts
    return [digest(v) for v in (flat.mean(), flat.std(), flat.min(), flat.max(), turned)]


def levels(x: Samples) -> list[list[float]]:
    """Levels in dB of six bands in four parts, of the first channel; then of the second as a whole."""
    window = hann_window(2048)
    centres = np.arange(0, x.shape[1] - 2048, 1024)
    hz = np.arange(1025) * RATE / 2048
    rows = []
    for channel in x:
        power = powers(channel[None], centres, window)
        bands = [
            power[:, (hz >= a) & (hz < b)].sum(axis=1)
            for a, b in zip((0.0, *EDGES_HZ), (*EDGES_HZ, 24_001.0), strict=True)
        ]
        parts = np.array_split(np.stack(bands), SLICES, axis=1)
        rows += [[round(float(10 * np.log10(row.mean() + 1e-9)), 2) for row in part] for part in parts]
    return rows


def variants(tool: AnyTool) -> Iterator[tuple[str, dict[str, Any]]]:  # noqa: C901 - a branch for each kind of setting
    """The defaults, every option of every choice, both values of every switch, all numbers lower and higher."""
    base = BASE.get(tool.id, {})
    yield "defaults", base
    numbers: dict[str, Number] = {}
    for name, declaration in declared(tool.settings).items():
        if isinstance(declaration, Choice):
            for option, _words in declaration.options:
                yield f"{name}={option}", base | {name: option}
        elif isinstance(declaration, Switch):
            for on in (True, False):
                yield f"{name}={on}", base | {name: on}
        elif isinstance(declaration, Number) and name not in base:
            numbers[name] = declaration
    usual = tool.settings()
    for words, share in (("lower", 0.0), ("higher", 1.0)):
        moved = {}
        for name, d in numbers.items():
            value = getattr(usual, name)
            if value is not None:
                moved[name] = round(value + 0.35 * ((d.high if share else d.low) - value), d.decimals)
                moved[name] = int(moved[name]) if d.whole else moved[name]
        if moved:
            yield words, base | moved


def of_tool(tool: AnyTool, settings: dict[str, Any], source: Source, spans: tuple[Span, ...] | None = None) -> Any:
    """Everything that a tool makes of a sound, or of stretches of it."""
    rate, whole = source.rate, source.read(0, source.frames)
    quiet = lambda _share: None  # noqa: E731
    try:
        step = make_step(tool.id, settings, spans=spans)
        chain = Chain(source, [step], ChunkCache(), AnalysisStore())
        stage = chain.stages[step.id]
        analysis = stage.analysis()
        made = chain.after.read(0, source.frames)
        found: dict[str, Any] = {
            "caption": tool.caption(step.settings), "analysis": digest(analysis), "after": levels(made),
            "removed": levels(whole - made), "margin": digest(tool.margin(step.settings, rate)),
        }  # fmt: skip
        if tool.survey is not None:
            found["survey"] = digest(tool.survey(source, chain.after, spans or (), step.settings, analysis, quiet))
        if tool.picture is not None:
            passage = source.read(2 * rate, 3 * rate)
            found["picture"] = digest(tool.picture(passage, rate, step.settings, analysis))
        if tool.suggest is not None and settings == BASE.get(tool.id, {}):
            found["suggest"] = digest(tool.suggest(source, spans or (), step.settings, quiet))
    except PuliziaError as error:
        return f"refused: {error}"
    return found


def _measures() -> dict[str, Callable[[], Any]]:
    one, two = ArraySource(voice(), RATE), ArraySource(spoiled(), RATE)
    late = ArraySource(np.concatenate([np.zeros((1, 5000), np.float32), 0.5 * voice()[:, :-5000]], axis=1), RATE)
    demo: list[Source] = [open_media(path).source for path in api.demo_files()]
    names = ("left", "right")
    found = spectrum.spectrum(two, RATE, 5 * RATE)
    spans = speech_spans.speech_spans(one)
    listed: dict[str, Callable[[], Any]] = {
        "loudness": lambda: loudness.measure(two, names=names), "readings": lambda: readings.readings(two, loudness.measure(two), names),
        "loudest": lambda: readings.loudest(loudness.measure(two), 3.0),
        "figures": lambda: figures.passage_figures(two, names), "speech level": lambda: figures.active_speech_level(two),
        "activity": lambda: speech_activity.activity_of(one), "activity, two": lambda: speech_activity.activity_of(two),
        "speech to noise": lambda: speech_activity.speech_to_noise_db(one), "spans": lambda: spans,
        "phrases": lambda: phrases.find_phrases(one, (Span(0, one.frames),)), "voices": lambda: voices.voices_of(one, spans.phrases),
        "dialogue": lambda: dialogue.dialogue(one), "bandwidth": lambda: bandwidth.bandwidth_of(demo[1], 1024),
        "average voice": lambda: bandwidth.average_voice(np.geomspace(100, 12_000, 20)),
        "changes": lambda: noise_changes.changes_s(noise_changes.band_powers(demo[0])),
        "floor": lambda: noise_floor.noise_spectrum(one, (Span(0, RATE),), 2048), "quantile bias": noise_changes.quantile_bias,
        "tones": lambda: steady_tones.steady_tones(two), "events": lambda: steady_tones.events_of(steady_tones.steady_tones(two), RATE),
        "harm": lambda: harm.harm(one, ArraySource(0.5 * voice(), RATE), ()), "line-up": lambda: line_up.line_up(one, late),
        "best microphone": lambda: best_microphone.best_microphones([one, late]), "same": lambda: same_sound.find_same(one, late),
        "peaks": lambda: overview.peak_segment(two, 0), "sketch": lambda: overview.sketched_segment(two, 0, 2),
        "sonogram": lambda: sonogram.sonogram(two, 0.0, 700.0, 300, SonogramScale()), "spectrum": lambda: found,
        "bands": lambda: spectrum.band_levels_db(found, 3), "centres": lambda: spectrum.band_centres(6),
        "smoothed": lambda: spectrum.smoothed(found.average, found.hz, 12),
        "spectral peaks": lambda: spectrum.peaks(found), "nearest": lambda: spectrum.nearest_peak(found, 2400.0),
        "mains": lambda: [spectrum.mains_harmonic(hz) for hz in (50.0, 100.1, 120.0, 333.0)],
        "mel": lambda: [frequency_axis.mel_of(np.array([100.0, 1000.0, 8000.0])), frequency_axis.hz_of_mel(np.array([3.0, 30.0]))],
    }  # fmt: skip
    for n, source in enumerate(demo):
        listed[f"decays {n}"] = partial(decay.decays_of, source)
        listed[f"inspect {n}"] = partial(inspect, source)
    listed["inspect, two"] = partial(inspect, two)
    listed |= _of_strange()
    return listed


def _of_strange() -> dict[str, Callable[[], Any]]:
    """Measures of three channels at another rate, and what is seen at other sizes."""
    three = ArraySource(strange(), OTHER_RATE)
    alone = ArraySource(strange()[:1], OTHER_RATE)
    listed: dict[str, Callable[[], Any]] = {
        "three: loudness": lambda: loudness.measure(three), "three: figures": lambda: figures.passage_figures(three, ("a", "b", "c")),
        "three: activity": lambda: speech_activity.activity_of(three), "three: spans": lambda: speech_spans.speech_spans(three),
        "three: changes": lambda: noise_changes.changes_s(noise_changes.band_powers(three)),
        "three: dialogue": lambda: dialogue.dialogue(three), "three: decays": lambda: decay.decays_of(alone),
        "three: tones": lambda: steady_tones.steady_tones(three), "three: bandwidth": lambda: bandwidth.bandwidth_of(alone, 2048),
        "three: harm": lambda: harm.harm(alone, ArraySource(0.7 * strange()[:1] ** 3, OTHER_RATE), (Span(OTHER_RATE, 5 * OTHER_RATE),)),
        "three: peaks": lambda: overview.peak_segment(three, 0), "three: sketch": lambda: overview.sketched_segment(three, 0, 4),
        "three: line-up": lambda: line_up.line_up(alone, ArraySource(strange()[1:2, 3000:], OTHER_RATE)),
        "three: words": lambda: same_words.find_words(
            same_words.described(alone), Span(2 * OTHER_RATE, 3 * OTHER_RATE), same_words.described(ArraySource(voice(), RATE))
        ),
        "three: spectrum": lambda: spectrum.spectrum(three, OTHER_RATE, 5 * OTHER_RATE),
        "three: S sounds": lambda: s_sounds.usual_s(alone, 0, alone.frames),
    }  # fmt: skip
    for per_column in (40.0, 700.0, 9000.0):
        for words, scale in (
            ("blended", SonogramScale(rows=90)), ("long", SonogramScale(rows=90, size=8192, axis="mel", window="blackman_harris")),
            ("bands", SonogramScale(rows=90, size=2048, axis="bands")), ("sharp", SonogramScale(rows=90, size=1024, axis="linear", sharpened=True)),
        ):  # fmt: skip
            listed[f"three: sonogram, {per_column:g} a column, {words}"] = partial(
                sonogram.sonogram, three, 3000.0, per_column, 40, scale
            )
    return listed


def measured(call: Callable[[], Any]) -> Any:
    """The digest of a measure, or its refusal."""
    try:
        return digest(call())
    except PuliziaError as error:
        return f"refused: {error}"


def tools() -> list[str]:
    """Every tool that has figures."""
    return [tool.id for tool in SHIPPED if tool.id not in LEFT_OUT]


def tool_figures(tool_id: str) -> dict[str, Any]:
    """Of all variants of a tool."""
    tool = next(tool for tool in SHIPPED if tool.id == tool_id)
    source, other = ArraySource(spoiled(), RATE), ArraySource(strange(), OTHER_RATE)
    made = {words: of_tool(tool, settings, source) for words, settings in variants(tool)}
    moved = {words: settings for words, settings in variants(tool) if words in ("defaults", "lower", "higher")}
    made |= {f"strange, {words}": of_tool(tool, settings, other) for words, settings in moved.items()}
    stretches = (Span(OTHER_RATE, round(2.7 * OTHER_RATE)), Span(4 * OTHER_RATE, 8 * OTHER_RATE))
    made["strange, in stretches"] = of_tool(tool, BASE.get(tool.id, {}), other, stretches)
    if tool.find is not None:
        for words, sound in (("spoiled", source), ("strange", other)):
            made[f"found in {words}"] = measured(lambda sound=sound: tool.find(sound, lambda _share: None))  # type: ignore[misc]
    return made


def measure_figures() -> dict[str, Any]:
    """Of all measures."""
    return {name: measured(call) for name, call in _measures().items()}


def pair_figures() -> dict[str, Any]:
    """Of two sounds together, of needles and of waveforms."""
    return {name: measured(call) for name, call in pairs().items()}


def as_text(made: dict[str, dict[str, Any]]) -> str:
    """JSON with a line for each variant, so that a change can be read."""
    parts = []
    for head, rows in made.items():
        lines = [f"  {json.dumps(name)}: {json.dumps(row, separators=(',', ':'))}" for name, row in rows.items()]
        parts.append(f" {json.dumps(head)}: {{\n" + ",\n".join(lines) + "\n }")
    return "{\n" + ",\n".join(parts) + "\n}\n"


def differences(was: Any, now: Any, where: str = "") -> Iterator[str]:
    """Where figures differ by more than two thousandths, or 0.03 dB of a level and 0.0001 of anything else."""
    if isinstance(was, dict) and isinstance(now, dict):
        for key in was.keys() | now.keys():
            yield from differences(was.get(key), now.get(key), f"{where}/{key}")
    elif isinstance(was, list) and isinstance(now, list) and len(was) == len(now):
        for n, (a, b) in enumerate(zip(was, now, strict=True)):
            yield from differences(a, b, f"{where}/{n}")
    elif isinstance(was, int | float) and isinstance(now, int | float) and not isinstance(was, bool):
        least = 0.03 if "/after/" in where or "/removed/" in where else 1e-4
        if not math.isclose(was, now, rel_tol=2e-3, abs_tol=least):
            yield f"{where}: {was} is now {now}"
    elif was != now:
        yield f"{where}: {str(was)[:80]} is now {str(now)[:80]}"


if __name__ == "__main__":
    measures = {"measures": measure_figures(), "pairs": pair_figures()}
    FILE.write_text(as_text(measures | {tool_id: tool_figures(tool_id) for tool_id in tools()}))
    print(f"{FILE}: {FILE.stat().st_size} bytes")  # noqa: T201 - what was written
