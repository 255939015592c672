# SPDX-License-Identifier: GPL-3.0-or-later
"""Split compressor: one to four bands, each with its own threshold.

Bands by zero-phase Linkwitz-Riley magnitudes (``dsp.crossover``), gain by the static curve and detector of
``dsp.dynamics``. What is below all thresholds stays bit for bit.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.audio.spans import Span
from pulizia.dsp import crossover
from pulizia.dsp.dynamics import (
    STEPS_PER_S,
    held,
    over_frames,
    smoothed,
    static_gain_db,
    step_levels,
)
from pulizia.dsp.stft import hann_window, powers
from pulizia.settings.declare import Settings, choice, number
from pulizia.tools.base import (
    Block,
    Curve,
    LaneCurve,
    Margin,
    Picture,
    Progress,
    Suggestion,
    Survey,
    Table,
    Tool,
)
from pulizia.units import Unit, format_number, powers_to_db
from pulizia.words import tr

HOLD_MS = 12.0  # a period of 83 Hz: the level does not fall between the pulses of a deep voice
SETTLED = 7.0  # release times after which the detector has forgotten where it began (-60 dB)
LET_GO_DB = 1e-5
PIECE_S = 20
LANE_STEP_MS = 20
MOST_LISTENED_S = 300
LISTEN_FRAMES = 4096
OVER_MEAN_DB = 6.0  # threshold over the mean level of a band (common practice)


def _threshold(label: str, default: float) -> float:
    made: float = number(
        default, unit=Unit.DB, low=-70.0, high=0.0, step=0.5, label=label,
        help=tr("Level in this band above which it is compressed, in dBFS."),
    )  # fmt: skip
    return made


def _make_up(label: str) -> float:
    made: float = number(
        0.0, unit=Unit.DB, low=-12.0, high=24.0, step=0.5, label=label, more=True,
        help=tr("Level of this band afterwards."),
    )  # fmt: skip
    return made


@dataclass(frozen=True, slots=True, kw_only=True)
class SplitCompressorSettings(Settings):
    """Splits, thresholds, and how the gain follows."""

    bands: str = choice(
        "2", options={"1": "one", "2": "two", "3": "three", "4": "four"}, label="Bands",
        help="One is a plain compressor. Two, split at the lower edge of S, keep S from standing out.",
    )  # fmt: skip
    low_split_hz: float = number(
        200.0, unit=Unit.HZ, low=60.0, high=1000.0, step=5.0, scale="log", label="Low crossover", more=True,
        help="Between the lowest and the next band, with four bands.",
    )  # fmt: skip
    mid_split_hz: float = number(
        1000.0, unit=Unit.HZ, low=100.0, high=4000.0, step=10.0, scale="log", label="Middle crossover", more=True,
        help="Between low and middle, with three or four bands.",
    )  # fmt: skip
    split_hz: float = number(
        3800.0, unit=Unit.HZ, low=200.0, high=12_000.0, step=10.0, scale="log", label="Crossover",
        help="Lower edge of the highest band. 3.5 to 4 kHz separates vowels from S.",
    )  # fmt: skip
    threshold_db: float = _threshold("Low threshold", -24.0)
    mid_threshold_db: float = _threshold("High-mid threshold", -26.0)
    low_mid_threshold_db: float = _threshold("Low-mid threshold", -26.0)
    high_threshold_db: float = _threshold("High threshold", -34.0)
    ratio_count: float = number(
        3.0, unit=Unit.COUNT, low=1.0, high=20.0, step=0.1, scale="log", label="Ratio",
        help="Input dB above the threshold for each dB of output.",
    )  # fmt: skip
    knee_db: float = number(
        6.0, unit=Unit.DB, low=0.0, high=24.0, step=0.5, label="Knee", more=True,
        help="Width around the threshold over which the ratio sets in.",
    )  # fmt: skip
    attack_ms: float = number(
        8.0, unit=Unit.MS, low=0.0, high=200.0, step=0.5, label="Attack", help="Attack time constant (63 %).",
    )  # fmt: skip
    release_ms: float = number(
        120.0, unit=Unit.MS, low=10.0, high=1000.0, step=5.0, scale="log", label="Release",
        help="Release time constant (63 %).",
    )  # fmt: skip
    make_up_db: float = _make_up("Low make-up")
    mid_make_up_db: float = _make_up("High-mid make-up")
    low_mid_make_up_db: float = _make_up("Low-mid make-up")
    high_make_up_db: float = _make_up("High make-up")


BAND_FIELDS: dict[str, tuple[str, ...]] = {
    "1": ("",),
    "2": ("", "high_"),
    "3": ("", "mid_", "high_"),
    "4": ("", "low_mid_", "mid_", "high_"),
}
SPLIT_FIELDS: dict[str, tuple[str, ...]] = {
    "1": (), "2": ("split_hz",), "3": ("mid_split_hz", "split_hz"), "4": ("low_split_hz", "mid_split_hz", "split_hz"),
}  # fmt: skip


def splits_of(settings: SplitCompressorSettings, rate: int) -> tuple[float, ...]:
    """Splits in rising order, below half the sample rate."""
    found = sorted(float(getattr(settings, name)) for name in SPLIT_FIELDS[settings.bands])
    return tuple(min(hz, 0.45 * rate) for hz in found)


def thresholds_of(settings: SplitCompressorSettings) -> tuple[float, ...]:
    """Thresholds from the lowest band to the highest."""
    return tuple(float(getattr(settings, f"{name}threshold_db")) for name in BAND_FIELDS[settings.bands])


def make_ups_of(settings: SplitCompressorSettings) -> tuple[float, ...]:
    """Make-up gains from the lowest band to the highest."""
    return tuple(float(getattr(settings, f"{name}make_up_db")) for name in BAND_FIELDS[settings.bands])


def reductions_db(
    part: Samples, threshold: float, settings: SplitCompressorSettings, start: int, rate: int
) -> tuple[NDArray[np.float64], int]:
    """Gain of one band at each millisecond, 0 or below, and the first one."""
    level, first = step_levels(part, start, rate)
    wanted = static_gain_db(held(level, max(1, round(HOLD_MS))), threshold, settings.ratio_count, settings.knee_db)
    if not wanted.any():
        return np.zeros(len(wanted)), first
    gain = smoothed(wanted, settings.attack_ms, settings.release_ms)
    # a detector that has long let go leaves a trace far below hearing: bit for bit is better
    gain[gain > -LET_GO_DB] = 0.0
    return gain, first


def process(block: Block, settings: SplitCompressorSettings, _analysis: None) -> Samples:
    """Compress a block: the sound plus what each band's gain changes."""
    splits = splits_of(settings, block.rate)
    parts = crossover.bands(block.samples, splits, block.rate) if splits else [block.samples]
    out = block.samples.copy()
    for part, threshold, make_up in zip(parts, thresholds_of(settings), make_ups_of(settings), strict=True):
        gain_db, first = reductions_db(part, threshold, settings, block.start, block.rate)
        if not gain_db.any() and make_up == 0.0:
            continue
        gain = over_frames(gain_db + make_up, first, block.start, block.samples.shape[1], block.rate)
        gain -= np.float32(1.0)
        out += part * gain
    return out


def margin(settings: SplitCompressorSettings, rate: int) -> Margin:
    """Until the detector has forgotten, and the filters' ringing."""
    ring = crossover.ring_frames(rate) if settings.bands != "1" else 0
    memory = SETTLED * max(settings.release_ms, settings.attack_ms) / 1000.0 + 0.05
    return Margin(round(memory * rate) + ring, ring + rate // 100)


def applies(settings: SplitCompressorSettings, name: str) -> bool:
    """Whether a split or a band's setting belongs to the number of bands."""
    if name.endswith("split_hz"):
        return name in SPLIT_FIELDS[settings.bands]
    for field in ("threshold_db", "make_up_db"):
        if name.endswith(field):
            return name.removesuffix(field) in BAND_FIELDS[settings.bands]
    return True


def caption(settings: SplitCompressorSettings) -> str:
    """Short text on the strip."""
    count = {"1": tr("one band"), "2": tr("two bands"), "3": tr("three bands"), "4": tr("four bands")}[settings.bands]
    return tr(
        "{count}, {ratio_count}:1 from {threshold_db} dBFS",
        count=count,
        ratio_count=format_number(settings.ratio_count),
        threshold_db=format_number(settings.threshold_db, 0),
    )


def survey(
    source: Source,
    after: Source,
    spans: Sequence[Span],
    settings: SplitCompressorSettings,
    _analysis: None,
    progress: Progress,
) -> Survey:
    """How far each band is turned down, over time and on the mean."""
    del after
    rate, reach = source.rate, margin(settings, source.rate)
    splits = splits_of(settings, rate)
    thresholds = thresholds_of(settings)
    lanes: list[list[NDArray[np.float64]]] = [[] for _ in thresholds]
    for begin in range(0, source.frames, PIECE_S * rate):
        end = min(source.frames, begin + PIECE_S * rate)
        start = begin - reach.before
        block = read_padded(source, start, end + reach.after)
        parts = crossover.bands(block, splits, rate) if splits else [block]
        for lane, part, threshold in zip(lanes, parts, thresholds, strict=True):
            gain, first = reductions_db(part, threshold, settings, start, rate)
            a, b = begin * STEPS_PER_S // rate - first, end * STEPS_PER_S // rate - first
            lane.append(gain[max(a, 0) : b])
        progress(end / source.frames)
    step = rate * LANE_STEP_MS // STEPS_PER_S
    curves, rows = [], []
    edges = (0.0, *splits, rate / 2)
    for n, lane in enumerate(lanes):
        gain = np.concatenate(lane) if lane else np.zeros(0)
        if spans and len(gain):
            at = np.arange(len(gain)) * rate // STEPS_PER_S
            acting = np.zeros(len(gain), dtype=bool)
            for span in spans:
                acting |= (at >= span.start) & (at < span.stop)
            gain = np.where(acting, gain, 0.0)
        low = np.minimum.reduceat(gain, np.arange(0, len(gain), LANE_STEP_MS)) if len(gain) else gain
        curves.append(LaneCurve(_band_name(edges[n], edges[n + 1], rate), step, low.astype(np.float32)))
        down = gain[gain < -0.1]
        mean = float(down.mean()) if len(down) else 0.0
        rows.append((curves[-1].name, f"{format_number(mean)} dB", f"{format_number(float(gain.min(initial=0.0)))} dB"))
    most = min((float(c.level_db.min(initial=0.0)) for c in curves), default=0.0)
    acts = most < -0.1
    words = (
        tr("Gain reduction up to {most} dB.", most=format_number(-most)) if acts else tr("Nothing passes a threshold.")
    )
    table = Table((tr("band"), tr("mean"), tr("most")), tuple(rows))
    return Survey(words, table=table, curves=tuple(curves), stands_first=not acts)


def _band_name(low: float, high: float, rate: int) -> str:
    if low == 0.0 and high >= rate / 2:
        return tr("all")
    if low == 0.0:
        return tr("below {high:.0f} Hz", high=high)
    return (
        tr("above {low:.0f} Hz", low=low) if high >= rate / 2 else tr("{low:.0f} to {high:.0f} Hz", low=low, high=high)
    )


def suggest(source: Source, spans: Sequence[Span], settings: SplitCompressorSettings, progress: Progress) -> Suggestion:
    """Thresholds a little over the mean level of each band while it sounds."""
    rate = source.rate
    start, stop = (spans[0].start, spans[-1].stop) if spans else (0, source.frames)
    most = MOST_LISTENED_S * rate
    if stop - start > most:
        start, stop = (start + stop - most) // 2, (start + stop + most) // 2
    splits = splits_of(settings, rate)
    levels: list[list[NDArray[np.float64]]] = [[] for _ in thresholds_of(settings)]
    for begin in range(start, stop, PIECE_S * rate):
        block = read_padded(source, begin, min(stop, begin + PIECE_S * rate))
        for kept, part in zip(levels, crossover.bands(block, splits, rate) if splits else [block], strict=True):
            kept.append(held(step_levels(part, begin, rate)[0], round(HOLD_MS)))
        progress(min(1.0, (begin + PIECE_S * rate - start) / max(1, stop - start)))
    changes, shown = {}, []
    for name, kept in zip(BAND_FIELDS[settings.bands], levels, strict=True):
        level = np.concatenate(kept) if kept else np.zeros(0)
        loud = level[level > np.quantile(level, 0.95) - 30.0] if len(level) else level
        if not len(loud) or float(level.max()) < -90.0:
            return Suggestion({}, tr("There is nothing loud enough to compress."))
        threshold = float(np.clip(round(2.0 * (float(np.mean(loud)) + OVER_MEAN_DB / 2)) / 2.0, -70.0, 0.0))
        changes[f"{name}threshold_db"] = threshold
        shown.append(format_number(threshold, 0))
    return Suggestion(changes, tr("Thresholds at {now} dBFS, the median level of each band.", now=", ".join(shown)))


def picture(passage: Samples | None, rate: int, settings: SplitCompressorSettings, _analysis: None) -> Picture:
    """Average and maximum of the passage, in levels that the thresholds can be compared with."""
    del settings
    hz = np.fft.rfftfreq(LISTEN_FRAMES, 1.0 / rate)
    if passage is None or passage.shape[1] < LISTEN_FRAMES:
        quiet = np.full(len(hz), -160.0)
        return Picture((Curve("passage", hz, quiet), Curve("maximum", hz, quiet)), "dBFS", "")
    window = hann_window(LISTEN_FRAMES)
    starts = np.arange(0, passage.shape[1] - LISTEN_FRAMES + 1, LISTEN_FRAMES // 2)
    power = powers(passage, starts, window) * (4.0 / float(window.sum()) ** 2 / len(passage))
    return Picture(
        (Curve("passage", hz, powers_to_db(power.mean(axis=0))), Curve("maximum", hz, powers_to_db(power.max(axis=0)))),
        "dBFS", tr("average and maximum"),
    )  # fmt: skip


TOOL = Tool(
    id="split_compressor",
    title="Multiband compressor",
    summary="Compresses one to four bands, each with its own threshold.",
    settings=SplitCompressorSettings,
    order=70,
    family="level",
    process=process,
    caption=caption,
    margin=margin,
    picture=picture,
    survey=survey,
    suggest=suggest,
    applies=applies,
    shapes_tone=True,
)
