# SPDX-License-Identifier: GPL-3.0-or-later
"""Compressor, limiter, leveller, crossovers, phase and delay against their definitions and independent filters."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from scipy.signal import butter, fftconvolve, resample_poly, sosfilt, sosfiltfilt, sosfreqz
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource, Source
from pulizia.dsp import crossover
from pulizia.dsp.dynamics import held, smoothed, static_gain_db
from pulizia.dsp.phase_turn import turned
from pulizia.dsp.prediction_error import predictors, without_tail
from pulizia.dsp.side_delay import delay_of, shifted
from pulizia.measure.bandwidth import bandwidth_of
from pulizia.measure.decay import decays_of
from pulizia.measure.phrases import Phrases, find_phrases
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.order import order_note
from pulizia.score.steps import make_step
from pulizia.tools.leveller import LevellerSettings, ride_db
from pulizia.tools.registry import tool_of

RATE = 48_000


def chain_of(samples: np.ndarray, tool: str, **settings: object) -> Chain:
    return Chain(
        ArraySource(np.atleast_2d(samples).astype(np.float32), RATE),
        [make_step(tool, settings)],
        ChunkCache(),
        AnalysisStore(),
    )


def treated(samples: np.ndarray, tool: str, **settings: object) -> np.ndarray:
    return chain_of(samples, tool, **settings).after.read(0, np.atleast_2d(samples).shape[1])


def tone(hz: float, seconds: float, level_db: float) -> np.ndarray:
    return 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


@pytest.mark.parametrize(("over", "gain"), [(-10, 0.0), (-3, 0.0), (0, -0.5), (3, -2.0), (12, -8.0)])
def test_the_static_curve_is_that_of_the_tutorial(over: float, gain: float) -> None:
    """Giannoulis et al. 2012, equation 4, for 3:1 and a knee of 6 dB, worked by hand."""
    assert static_gain_db(np.array([-20.0 + over]), -20.0, 3.0, 6.0)[0] == pytest.approx(gain, abs=1e-9)


def test_attack_and_release_are_the_times_for_63_percent() -> None:
    wanted = np.concatenate([np.zeros(100), np.full(1000, -10.0), np.zeros(1000)])
    made = smoothed(wanted, 20.0, 200.0)
    assert made[100 + 20 - 1] == pytest.approx(-10 * (1 - np.exp(-1)), abs=0.05)
    assert made[1100 + 200 - 1] == pytest.approx(-10 * np.exp(-1), abs=0.05)


@pytest.mark.parametrize("level", [-40.0, -24.0, -18.0, -6.0])
def test_a_steady_tone_comes_out_where_the_curve_says(level: float) -> None:
    """One band, 4:1 over -24 dBFS, hard knee: within 0.1 dB."""
    made = treated(
        tone(997, 3.0, level), "split_compressor", bands="1", threshold_db=-24.0, ratio_count=4.0, knee_db=0.0
    )
    out = 20 * np.log10(np.abs(made[0, 2 * RATE : -RATE // 2]).max())
    assert out == pytest.approx(level if level <= -24 else -24 + (level + 24) / 4, abs=0.1)


def test_bands_have_the_magnitude_of_linkwitz_riley_and_add_up_to_the_sound() -> None:
    """Against SciPy's Butterworth filter of second order, squared."""
    pulse = np.zeros((1, RATE), np.float32)
    pulse[0, RATE // 2] = 1.0
    parts = crossover.bands(pulse, (300.0, 3800.0), RATE)
    assert np.abs(sum(parts) - pulse).max() < 1e-6
    low = np.abs(np.fft.rfft(parts[0][0]))
    hz = np.fft.rfftfreq(RATE, 1 / RATE)
    _, reference = sosfreqz(butter(2, 300.0, fs=RATE, output="sos"), worN=hz, fs=RATE)
    near = (hz > 30) & (hz < 1200)
    assert 20 * np.log10(low[near] / np.abs(reference[near]) ** 2) == pytest.approx(0.0, abs=0.1)
    untouched = voice_in_noise(3.0)
    assert np.array_equal(
        treated(
            untouched,
            "split_compressor",
            bands="4",
            threshold_db=0.0,
            low_mid_threshold_db=0.0,
            mid_threshold_db=0.0,
            high_threshold_db=0.0,
        ),
        untouched,
    )


def true_peak_db(samples: np.ndarray) -> float:
    """By SciPy's own polyphase filter, 16 times."""
    return float(
        20 * np.log10(np.abs(resample_poly(samples.astype(np.float64), 16, 1, axis=-1, window=("kaiser", 12.0))).max())
    )


@pytest.mark.parametrize(
    "settings", [{}, {"release_ms": 20.0, "look_ahead_ms": 1.5}, {"linked": False, "ceiling_dbtp": -3.0}]
)
def test_no_true_peak_passes_the_ceiling(settings: dict[str, object]) -> None:
    rng = np.random.default_rng(3)
    sound = np.concatenate(
        [voice_in_noise(4.0, channels=2) * 6, tone(11_025, 1.0, 3.0)[None].repeat(2, 0), rng.normal(0, 0.3, (2, RATE))],
        axis=1,
    )
    sound = np.stack([fftconvolve(c, np.hanning(9) / 4.0, "same") for c in sound])
    made = treated(sound, "limiter", **settings)
    ceiling = float(settings.get("ceiling_dbtp", -1.0))
    assert ceiling - 0.5 < true_peak_db(made[:, RATE // 4 : -RATE // 4]) <= ceiling + 0.05
    quiet = voice_in_noise(2.0) * 0.1
    assert np.array_equal(treated(quiet, "limiter"), quiet)


def test_a_single_peak_is_let_go_faster_than_many() -> None:
    base = tone(300, 3.0, -12.0)
    one, many = base.copy(), base.copy()
    one[RATE] = 1.2
    many[RATE - 20_000 : RATE + 1 : 500] = 1.2
    gains = [
        treated(x, "limiter")[0, RATE + 14_000 : RATE + 15_000]
        / np.where(np.abs(base) > 0.05, base, np.nan)[RATE + 14_000 : RATE + 15_000]
        for x in (one, many)
    ]
    assert np.nanmedian(gains[0]) > 0.975
    assert np.nanmedian(gains[1]) < np.nanmedian(gains[0]) - 0.02


def uneven_phrases() -> tuple[np.ndarray, list[tuple[int, int]], np.ndarray]:
    """Eight phrases of 1.2 s between -8 and +8 dB with pauses of 0.7 s over quiet noise, their places and levels."""
    rng = np.random.default_rng(5)
    levels = np.array([0.0, 6.0, -8.0, 3.0, 8.0, -5.0, -2.0, 4.0])
    places, parts = [], [np.zeros(RATE // 2)]
    t = np.arange(round(1.2 * RATE)) / RATE
    pitch = 2 * np.pi * np.cumsum(130 + 20 * np.sin(2 * np.pi * 0.7 * t)) / RATE
    voiced = 0.02 * sum(np.sin(k * pitch) / k for k in range(1, 24)) * (0.7 + 0.3 * np.sin(2 * np.pi * 4 * t))
    for level in levels.tolist():
        start = sum(len(p) for p in parts)
        phrase = voiced[: round(1.2 * RATE)] * 10 ** (level / 20)
        parts += [phrase, np.zeros(round(0.7 * RATE))]
        places.append((start, start + len(phrase)))
    sound = np.concatenate(parts)
    return sound + rng.normal(0, 10 ** (-65 / 20), len(sound)), places, levels


def test_phrases_are_brought_together_and_pauses_stay_down() -> None:
    sound, places, levels = uneven_phrases()
    chain = chain_of(sound, "leveller")
    made = chain.after.read(0, len(sound))[0]
    after = np.array([10 * np.log10(np.mean(made[a:b] ** 2)) for a, b in places])
    assert np.ptp(levels) == 16.0
    assert np.abs(after - np.median(after)).max() < 1.5
    for (_, stop), (start, _) in pairwise(places):
        pause = slice(stop, start)
        assert 10 * np.log10(np.mean(made[pause] ** 2) / np.mean(sound[pause] ** 2)) < 1.0
    for a, b in places:  # the gain stands still inside a phrase
        inside = slice(a + RATE // 4, b - RATE // 4)
        gain = made[inside][np.abs(sound[inside]) > 1e-3] / sound[inside][np.abs(sound[inside]) > 1e-3]
        assert np.ptp(20 * np.log10(gain)) < 0.5
    middle = (places[2][0] + places[2][1]) / 2 / RATE
    moved = treated(sound, "leveller", ride_levels=[[middle, -6.0]])[0]
    a, b = places[2]
    assert 10 * np.log10(
        np.mean(moved[a + 4000 : b - 4000] ** 2) / np.mean(sound[a + 4000 : b - 4000] ** 2)
    ) == pytest.approx(-6.0, abs=0.2)
    assert len(find_phrases(ArraySource(np.zeros((1, RATE), np.float32), RATE), ()).lufs) == 0


@pytest.mark.parametrize("speed_ms", [40.0, 200.0, 500.0])
def test_the_gain_changes_between_two_phrases_in_the_transition_time(speed_ms: float) -> None:
    spans = np.array([[0, 400], [400, 800], [800, 1200]])
    phrases = Phrases(spans, np.array([-20.0, -28.0, -20.0]), np.ones(1200, np.float32))
    ride = ride_db(phrases, LevellerSettings(speed_ms=speed_ms))
    first, second = ride[200], ride[600]
    assert second - first == pytest.approx(8.0, abs=0.01)  # to the level of the middle phrase
    moving = np.flatnonzero((ride[200:600] > first + 1e-3) & (ride[200:600] < second - 1e-3)) + 200
    assert len(moving) == pytest.approx(speed_ms / 10.0, abs=2.1)  # hundredths of a second
    assert (moving[0] + moving[-1] + 1) / 2 == 400
    assert (np.diff(ride[200:600]) >= -1e-6).all()


def room(t60: float, seed: int = 1) -> np.ndarray:
    """A pulse, and Gaussian noise of the same energy that dies away by 60 dB in t60."""
    rng = np.random.default_rng(seed)
    t = np.arange(round(1.3 * t60 * RATE)) / RATE
    h = rng.standard_normal(len(t)) * 10 ** (-3 * t / t60)
    h[: round(0.003 * RATE)] = 0.0
    h /= np.sqrt(np.sum(h**2))
    h[0] = 1.0
    return h


def dry_words(seconds: float = 14.0) -> np.ndarray:
    """Noise-like and harmonic bursts with abrupt ends, 0.25 to 0.4 s long, with pauses of 0.35 to 0.6 s."""
    rng = np.random.default_rng(2)
    sound = np.zeros(round(seconds * RATE))
    at = RATE // 4
    while at < len(sound) - RATE:
        n = int(rng.uniform(0.25, 0.4) * RATE)
        t = np.arange(n) / RATE
        pitch = 2 * np.pi * np.cumsum(np.linspace(*rng.uniform(100, 190, 2), n)) / RATE
        burst = sum(np.sin(k * pitch) / k for k in range(1, 30)) + 0.5 * rng.standard_normal(n)
        sound[at : at + n] = (
            0.08 * burst * np.minimum(1, np.minimum(t, t[::-1]) / 0.008) * (0.6 + 0.4 * np.sin(2 * np.pi * 7 * t))
        )
        at += n + int(rng.uniform(0.35, 0.6) * RATE)
    return sound


@pytest.mark.parametrize("t60", [0.4, 0.7])
def test_the_decay_of_a_known_room_is_found(t60: float) -> None:
    wet = fftconvolve(dry_words(), room(t60))[: 14 * RATE] + np.random.default_rng(0).normal(0, 1e-5, 14 * RATE)
    found = decays_of(ArraySource(wet[None].astype(np.float32), RATE))
    assert found.middle_s == pytest.approx(t60, rel=0.2)


@pytest.mark.slow
def test_the_tail_goes_and_the_voice_stays() -> None:
    dry = dry_words()
    wet = fftconvolve(dry, room(0.7))[: len(dry)]
    made = treated(wet, "room_tail")[0]
    power = np.convolve(dry**2, np.ones(480) / 480, "same")
    spoken = power > 1e-6
    tail = ~np.convolve(spoken, np.ones(4800), "same").astype(bool)
    assert 10 * np.log10(np.mean(made[tail] ** 2) / np.mean(wet[tail] ** 2)) < -5.5
    clean = treated(dry, "room_tail")[0]
    assert abs(10 * np.log10(np.mean(clean[spoken] ** 2) / np.mean(dry[spoken] ** 2))) < 0.5


def test_prediction_takes_out_what_a_known_filter_put_in() -> None:
    """One bin of an autoregressive process: the exact predictor leaves its innovation (Nakatani et al. 2010)."""
    rng = np.random.default_rng(4)
    frames, bins = 1500, 3
    dry = (rng.standard_normal((1, frames, bins)) + 1j * rng.standard_normal((1, frames, bins))) * np.abs(
        np.sin(np.arange(frames) / 40)
    )[None, :, None]
    wet = dry.copy()
    for n in range(3, frames):
        wet[:, n] += 0.6 * np.exp(0.4j) * wet[:, n - 3]
    wet = wet.astype(np.complex64)
    filters = predictors(wet, taps=4, delay=3, iterations=3)
    left = without_tail(wet, filters, taps=4, delay=3) - dry
    assert 10 * np.log10(np.mean(np.abs(left) ** 2) / np.mean(np.abs(wet - dry) ** 2)) < -20


def third_octaves(samples: np.ndarray) -> np.ndarray:
    power = np.abs(np.fft.rfft(samples * np.hanning(samples.shape[-1]))) ** 2
    hz = np.fft.rfftfreq(samples.shape[-1], 1 / RATE)
    centres = 1000 * 2.0 ** (np.arange(-8, 12) / 3)
    return np.array([10 * np.log10(power[..., (hz >= c / 1.1225) & (hz < c * 1.1225)].sum()) for c in centres])


def test_room_tone_has_level_and_colour_of_the_room_and_never_repeats() -> None:
    rng = np.random.default_rng(6)
    spectrum = np.fft.rfft(rng.standard_normal((2, 20 * RATE)))
    hz = np.fft.rfftfreq(20 * RATE, 1 / RATE)
    sound = np.fft.irfft(spectrum / (1 + hz / 300.0) ** 0.8)
    sound = (sound / sound.std() * 10 ** (-50 / 20)).astype(np.float32)
    sound[1] = 0.8 * sound[0] + 0.6 * sound[1]
    holed = sound.copy()
    holed[:, 6 * RATE : 16 * RATE] = 0.0
    source: Source = chain_of(holed, "room_tone", profile_spans_s=[[1.0, 5.0]]).after
    made = source.read(0, 20 * RATE)
    assert np.array_equal(made[:, : 5 * RATE], holed[:, : 5 * RATE])
    filled = made[:, 7 * RATE : 15 * RATE]
    assert np.abs(third_octaves(filled) - third_octaves(sound[:, 7 * RATE : 15 * RATE])).max() < 1.0
    assert np.corrcoef(filled)[0, 1] == pytest.approx(np.corrcoef(sound)[0, 1], abs=0.05)
    spectrum = np.abs(np.fft.rfft(filled[0])) ** 2
    likeness = np.fft.irfft(spectrum)[RATE // 2 : 4 * RATE] / np.fft.irfft(spectrum)[0]
    assert np.abs(likeness).max() < 0.1
    edges = np.abs(np.diff(made, axis=1)).max(axis=0)
    assert edges[6 * RATE - 100 : 6 * RATE + 100].max() < 2 * edges[: 5 * RATE].max()


@pytest.mark.parametrize("channels", [2, 3])
def test_room_tone_of_rumble_that_all_microphones_hear_alike(channels: int) -> None:
    rumble = sosfiltfilt(butter(8, 200, fs=RATE, output="sos"), np.random.default_rng(3).standard_normal(6 * RATE))
    rumble *= 0.1 / rumble.std()
    sound = np.stack([rumble, -0.5 * np.roll(rumble, 12), 0.9 * rumble])[:channels].astype(np.float32)
    sound[:, 3 * RATE : 4 * RATE] = 0.0
    made = chain_of(sound, "room_tone", profile_spans_s=[[0.5, 2.5]]).after.read(0, 6 * RATE)
    filled, around = made[:, round(3.2 * RATE) : round(3.8 * RATE)], made[:, RATE : 2 * RATE]
    assert 20 * np.log10(filled.std(axis=1) / around.std(axis=1)) == pytest.approx(np.zeros(channels), abs=2.0)
    assert np.corrcoef(filled)[0, 1] == pytest.approx(np.corrcoef(around)[0, 1], abs=0.05)


def test_phase_turns_lower_the_peaks_of_a_lopsided_voice_and_nothing_else() -> None:
    t = np.arange(4 * RATE) / RATE
    voice = (
        sum(np.cos(2 * np.pi * 130 * k * t) / k for k in range(1, 20)) * 0.1 * (0.6 + 0.4 * np.sin(2 * np.pi * 1.3 * t))
    )
    chain = chain_of(voice, "polarity", made_even=True)
    made = chain.after.read(0, len(voice))[0]
    assert 20 * np.log10(np.abs(voice).max() / np.abs(made[RATE // 4 : -RATE // 4]).max()) > 1.5
    assert (
        np.abs(third_octaves(made[RATE // 2 : -RATE // 2]) - third_octaves(voice[RATE // 2 : -RATE // 2]))[2:13].max()
        < 0.1
    )  # 160 Hz to 2 kHz, where it sounds
    quarter = turned(tone(1000, 1.0, 0.0)[None].astype(np.float32), 90.0, RATE)[0, 10_000:20_000]
    assert np.abs(quarter + np.cos(2 * np.pi * 1000 * np.arange(10_000, 20_000) / RATE)).max() < 0.01


@pytest.mark.parametrize("late", [7.0, 240.3, -31.5])
def test_a_late_side_is_measured_and_brought_back(late: float) -> None:
    voice = voice_in_noise(5.0)[0]
    moved = shifted(voice, 0.3) if late % 1 else voice
    left, right = (voice, np.roll(voice, int(late))) if late > 0 else (np.roll(voice, int(-late)), voice)
    frames, agreement = delay_of(left, right, 2400)
    assert frames == pytest.approx(int(late), abs=0.1)
    assert agreement > 0.95
    ms = 1000 * int(late) / RATE
    made = treated(np.stack([left, right]), "channels", delay_ms=ms)
    assert np.abs(made[0] - made[1])[RATE : 4 * RATE].max() < 0.02 * np.abs(voice).max()
    assert len(moved) == len(voice)


@pytest.mark.parametrize(("tool", "settings", "check"), [
    ("silence", {}, lambda _, y: not y.any()),
    ("reverse", {}, lambda x, y: np.array_equal(y, x[:, ::-1])),
    ("fade", {"way": "out", "shape": "linear"}, lambda x, y: np.allclose(y, x * (x.shape[1] - np.arange(x.shape[1]) - 0.5) / x.shape[1], atol=1e-6)),
    ("polarity", {"invert": "right"}, lambda x, y: np.array_equal(y, x * np.array([[1], [-1]], np.float32))),
    ("polarity", {"offset": "mean"}, lambda _, y: np.abs(y.mean(axis=1)).max() < 1e-5),
    ("channels", {"way": "mono"}, lambda x, y: np.allclose(y, x.mean(axis=0), atol=1e-7)),
    ("channels", {"way": "swap"}, lambda x, y: np.array_equal(y, x[::-1])),
])  # fmt: skip
def test_small_edits_do_what_they_say(tool: str, settings: dict, check) -> None:
    sound = voice_in_noise(3.0, channels=2) + np.float32(0.01)
    assert check(sound, treated(sound, tool, **settings))


def test_missing_treble_comes_back_a_little_under_the_average_voice() -> None:
    rng = np.random.default_rng(8)
    dry = dry_words()
    shaped = np.fft.irfft(np.fft.rfft(dry) / (1 + (np.fft.rfftfreq(len(dry), 1 / RATE) / 900) ** 1.5), len(dry))
    spectrum = np.fft.rfft(shaped)
    hz = np.fft.rfftfreq(len(shaped), 1 / RATE)
    dull = np.fft.irfft(spectrum / np.sqrt(1 + (hz / 3000) ** 24), len(shaped)) + rng.normal(0, 1e-5, len(shaped))
    made = treated(dull, "dull_voice", clean_up_db=0.0)
    tool, source = tool_of("dull_voice"), ArraySource(np.atleast_2d(dull).astype(np.float32), RATE)
    (finding,) = tool.find(source, lambda _share: None)
    ends = finding.sentence.removeprefix("The voice ends at ")[:-1]  # "3150 Hz"
    learned = tool.analyse(source, (), tool.settings(), lambda _share: None)
    told = tool.survey(source, source, (), tool.settings(), learned, lambda _share: None).sentence
    assert f"Everything above {ends} is missing." in told  # one figure in both
    found = [bandwidth_of(ArraySource(np.atleast_2d(x).astype(np.float32), RATE), 1024) for x in (dull, made)]
    assert 2500 < found[0].top_hz < 4500
    high = (found[0].hz > 4000) & (found[0].hz < 11_000)
    lacking = [10 * np.log10(f.wanted[high].sum() / f.speech[high].sum()) for f in found]
    assert lacking[0] > 25
    assert 3 < lacking[1] < 11
    quiet = np.convolve(dry**2, np.ones(4800), "same") == 0
    assert 10 * np.log10(np.mean(made[0][quiet] ** 2) / np.mean(dull[quiet] ** 2)) < 2


def test_weak_treble_is_lifted_rather_than_made_anew() -> None:
    """A gentle roll-off is undone: what comes out above 4 kHz is the original's own sound, not an invention."""
    dry = dry_words()
    dry = np.fft.irfft(np.fft.rfft(dry) / (1 + (np.fft.rfftfreq(len(dry), 1 / RATE) / 900) ** 1.5), len(dry))
    dull = np.fft.irfft(np.fft.rfft(dry) / np.sqrt(1 + (np.fft.rfftfreq(len(dry), 1 / RATE) / 3000) ** 6), len(dry))
    dull += np.random.default_rng(8).normal(0, 1e-5, len(dry))
    made = treated(dull, "dull_voice")[0]
    band = butter(4, (4000, 8000), "bandpass", fs=RATE, output="sos")
    wanted, came, was = (sosfilt(band, x) for x in (dry, made, dull))
    assert np.corrcoef(wanted, came)[0, 1] > 0.8
    assert 10 * np.log10(np.mean(came**2) / np.mean(was**2)) > 10


def test_a_note_appears_where_the_order_is_known_to_harm() -> None:
    limiter, equaliser, gate = (make_step(t) for t in ("limiter", "equaliser", "gate"))
    assert "Limiter" in order_note([limiter, equaliser], equaliser.id)
    assert order_note([limiter, equaliser], limiter.id) == order_note([limiter, equaliser], equaliser.id)
    assert not order_note([equaliser, limiter], limiter.id)
    assert "Gate before" in order_note([make_step("room_tail"), gate], gate.id)
    recommended = sorted(
        (
            make_step(t.id)
            for t in (
                tool_of(x)
                for x in ("limiter", "noise", "hum", "clicks", "equaliser", "overload", "leveller", "sibilance")
            )
        ),
        key=lambda s: s.tool.order,
    )
    assert not any(order_note(recommended, s.id) for s in recommended)


@pytest.mark.parametrize(("reaches_hz", "told"), [(20_000.0, 12_000.0), (5000.0, 5000.0)])
def test_a_voice_that_is_seen_through_noise_is_not_missing(reaches_hz: float, told: float) -> None:
    """Hiss of a recorder hides the treble of an average voice; what still lifts the level while somebody speaks is a voice."""
    rng = np.random.default_rng(8)
    dry = dry_words()
    hz = np.fft.rfftfreq(len(dry), 1 / RATE)
    voice = np.fft.irfft(np.fft.rfft(dry) / (1 + (hz / 900) ** 1.5) / np.sqrt(1 + (hz / reaches_hz) ** 24), len(dry))
    clean = bandwidth_of(ArraySource(np.atleast_2d(voice).astype(np.float32), RATE), 1024)
    at = (clean.hz > 9000) & (clean.hz < 11_000)
    hiss = rng.normal(0, 1.0, len(voice))
    of_hiss = bandwidth_of(ArraySource(np.atleast_2d(voice + 1e-3 * hiss).astype(np.float32), RATE), 1024)
    # as loud as the average voice at 10 kHz, and a little more
    level = 1e-3 * np.sqrt(1.2 * clean.wanted[at].sum() / of_hiss.pause[at].sum())
    found = bandwidth_of(ArraySource(np.atleast_2d(voice + level * hiss).astype(np.float32), RATE), 1024)
    assert found.top_hz == pytest.approx(told, rel=0.2)


@pytest.mark.parametrize("steps", [1, 2, 5, 8])
def test_a_peak_is_held_for_exactly_so_many_steps_and_never_before_it_comes(steps: int) -> None:
    level = np.full(40, -60.0)
    level[[0, 20]] = -6.0, -3.0
    expected = np.full(40, -60.0)
    expected[:steps], expected[20 : 20 + steps] = -6.0, -3.0
    np.testing.assert_array_equal(held(level, steps), expected)
