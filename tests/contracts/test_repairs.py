# SPDX-License-Identifier: GPL-3.0-or-later
"""What each repair does to a voice whose truth is known."""

from __future__ import annotations

from importlib.resources import as_file, files
from pathlib import Path

import numpy as np
import pytest
from scipy.signal import oaconvolve
from tests.conftest import voice_in_noise

from pulizia.audio.samples import Samples
from pulizia.audio.source import ArraySource
from pulizia.dsp import biquads
from pulizia.measure.harm import cells, harm, taken_cells
from pulizia.measure.noise_changes import band_powers, changes_s
from pulizia.measure.noise_floor import quiet_spans
from pulizia.measure.noise_profile import AROUND_S
from pulizia.measure.resonances import Resonance
from pulizia.measure.speech_activity import activity_of
from pulizia.media.open import open_media
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.tools import breaths, clicks, gate, hum, noise, overload, ringing
from pulizia.tools.registry import ALL, tool_of

RATE = 48_000
NOTHING = lambda _p: None  # noqa: E731


def chain(samples: Samples, tool: str, **settings: object) -> Chain:
    return Chain(
        ArraySource(np.atleast_2d(samples).astype(np.float32), RATE),
        [make_step(tool, settings)],
        ChunkCache(),
        AnalysisStore(),
    )


def treated(samples: Samples, tool: str, **settings: object) -> Samples:
    made = chain(samples, tool, **settings)
    return made.after.read(0, made.before.frames)


def power_db(x: np.ndarray) -> float:
    return float(10 * np.log10(np.mean(np.square(x, dtype=np.float64)) + 1e-30))


@pytest.fixture(scope="module")
def voice() -> np.ndarray:
    """A synthetic voice of twelve seconds with pauses, noise 36 dB below."""
    return voice_in_noise(12.0)[0].astype(np.float64)


def test_hum_is_found_to_a_hundredth_of_a_hertz_and_taken_out_alone(voice: np.ndarray) -> None:
    t = np.arange(len(voice)) / RATE
    tones = sum(0.01 / k * np.sin(2 * np.pi * 49.97 * k * t + k) for k in range(1, 8))
    made = chain(voice + tones, "hum")
    found = next(iter(made.stages.values())).analysis()
    assert found.lines.base_hz + found.lines.drift_hz.mean() == pytest.approx(49.97, abs=0.01)
    error = made.after.read(0, len(voice))[0] - voice
    middle = slice(2 * RATE, -2 * RATE)
    assert power_db(error[middle]) < power_db(tones[middle]) - 26
    assert power_db(error[middle]) < power_db(voice) - 40
    survey = hum.survey(made.before, made.after, (), hum.HumSettings(), found, NOTHING)
    assert survey.table.rows[0][0].startswith("49.97")
    whistle = voice + 0.003 * np.sin(2 * np.pi * 3150.4 * t)
    left = treated(whistle, "hum", mains=False, whistles=True)[0] - voice
    assert power_db(left[middle]) < power_db(0.003 * np.sin(t)) - 25


def test_hum_whose_frequency_wanders_is_followed_by_its_phase(voice: np.ndarray) -> None:
    """Mains that goes up and down by a fifth of a hertz within seconds; followed by its frequency alone -29 dB are left."""
    knots = 50.0 + 2 * np.array([0.0, 0.08, -0.02, 0.1, 0.0, -0.1, -0.05, 0.06, 0.1, 0.0, -0.08, 0.02, 0.0])
    turned = 2 * np.pi * np.cumsum(np.interp(np.arange(len(voice)) / RATE, np.arange(13), knots)) / RATE
    tones = sum(0.03 / k * np.sin(k * turned + k) for k in range(1, 8))
    error = treated(voice + tones, "hum")[0] - voice
    middle = slice(RATE, -RATE)
    assert power_db(error[middle]) < power_db(tones[middle]) - 33


def test_no_line_of_the_mains_is_found_in_a_moment_of_noise_and_that_of_a_moment_of_hum_is() -> None:
    rng = np.random.default_rng(1)
    settings = hum.HumSettings()
    for frames in (29_000, 48_000, 96_000, 190_000):
        for _ in range(12):
            hiss = 0.01 * rng.standard_normal(frames)
            assert not len(hum.analyse(ArraySource(np.float32(hiss[None]), RATE), (), settings, NOTHING).lines.hz)
        t = np.arange(frames) / RATE
        heard = hiss + sum(0.01 / k * np.sin(2 * np.pi * 50.2 * k * t + k) for k in range(1, 5))
        found = hum.analyse(ArraySource(np.float32(heard[None]), RATE), (), settings, NOTHING).lines
        assert found.base_hz == pytest.approx(50.2, abs=0.25)


def test_without_hum_every_sample_stays(voice: np.ndarray) -> None:
    assert np.array_equal(treated(voice, "hum")[0], voice.astype(np.float32))
    assert np.array_equal(treated(voice, "overload")[0], voice.astype(np.float32))


@pytest.mark.slow
def test_a_noise_that_changes_gets_a_profile_of_its_own(voice: np.ndarray) -> None:
    rng = np.random.default_rng(3)
    half = len(voice) // 2
    hiss = rng.normal(0, 0.002, len(voice))
    low = np.convolve(rng.normal(0, 0.02, len(voice)), np.ones(40) / 40, mode="same")
    sound = voice + np.where(np.arange(len(voice)) < half, hiss, 3 * low)
    (found,) = changes_s(band_powers(ArraySource(sound[None].astype(np.float32), RATE)))
    assert found == pytest.approx(half / RATE, abs=0.3)
    assert changes_s(band_powers(ArraySource(voice[None].astype(np.float32), RATE))) == []
    error = {}
    for way in ("one", "changes"):
        made = treated(sound, "noise", reduction_db=20.0, profile_spans_s=[[0.1, 0.9]], following=way)[0]
        pauses = np.convolve(np.abs(voice), np.ones(2400) / 2400, mode="same") < 0.004
        pauses[: half + RATE] = False
        error[way] = power_db(made[pauses])
    assert error["changes"] < error["one"] - 6


def test_the_reduction_can_be_bent_over_frequency(voice: np.ndarray) -> None:
    quiet = slice(5000, 40_000)
    curve = [[63, 0], [1000, 0], [2000, -12], [16_000, -12]]
    plain, bent = (treated(voice, "noise", profile_spans_s=[[0.1, 0.9]], curve_levels=c)[0, quiet] for c in ([], curve))
    hz = np.fft.rfftfreq(len(plain), 1 / RATE)

    def band(x: np.ndarray, low: float, high: float) -> float:
        return power_db(np.abs(np.fft.rfft(x))[(hz > low) & (hz < high)])

    assert band(bent, 4000, 15_000) - band(plain, 4000, 15_000) == pytest.approx(10, abs=1)
    assert band(bent, 100, 900) == pytest.approx(band(plain, 100, 900), abs=0.3)


def test_the_gate_closes_between_phrases_and_cuts_no_word(voice: np.ndarray) -> None:
    source = ArraySource(voice[None].astype(np.float32), RATE)
    chosen = gate.suggest(source, (), gate.GateSettings(), NOTHING).changes
    made = chain(voice, "gate", range_db=20.0, **chosen)
    after = made.after.read(0, len(voice))[0]
    assert power_db(after[5000:40_000]) == pytest.approx(power_db(voice[5000:40_000]) - 20, abs=0.5)
    loud = np.abs(voice) > 0.05
    assert power_db(after[loud] - voice[loud]) < power_db(voice[loud]) - 45
    settings = gate.GateSettings(range_db=20.0, **chosen)
    found = gate.survey(made.before, made.after, (), settings, None, NOTHING)
    assert found.marks == ()
    assert found.lane
    late = gate.GateSettings(threshold_db=-26.0, hysteresis_db=2.0, look_ahead_ms=0.0, hold_ms=0.0)
    assert gate.survey(made.before, made.after, (), late, None, NOTHING).marks
    for threshold, told in ((-90.0, "hardly closes"), (-10.0, "never opens")):  # a setting that does nothing says so
        idle = gate.GateSettings(threshold_db=threshold)
        assert told in gate.survey(made.before, made.after, (), idle, None, NOTHING).sentence


def test_ringing_finds_what_was_put_in_and_leaves_the_rest(voice: np.ndarray) -> None:
    rng = np.random.default_rng(4)
    noise = np.convolve(rng.normal(0, 0.05, 12 * RATE), np.hanning(9) / 4, mode="same") * (
        1 + 0.8 * np.sin(np.arange(12 * RATE) / 9000)
    )
    plain = ringing.analyse(ArraySource(noise[None].astype(np.float32), RATE), (), ringing.RingingSettings(), NOTHING)
    assert plain == ()
    from scipy.signal import sosfilt

    sections = np.concatenate([biquads.bell(f, 9, 20, RATE) for f in (450.0, 1300.0)])
    ringing_sound = sosfilt(sections, noise)
    found = ringing.analyse(
        ArraySource(ringing_sound[None].astype(np.float32), RATE), (), ringing.RingingSettings(), NOTHING
    )
    assert sorted(round(r.hz / 10) for r in found) == [45, 130]
    made = treated(ringing_sound, "ringing")[0]
    error = power_db(made - noise) - power_db(noise)
    assert error < power_db(ringing_sound - noise) - power_db(noise) - 6
    del voice


def test_a_peak_a_step_of_the_grid_beside_a_line_of_hum_is_no_resonance(monkeypatch: pytest.MonkeyPatch) -> None:
    from scipy.signal import sosfilt

    rng = np.random.default_rng(4)
    noise = 0.02 * rng.normal(0, 1.0, 12 * RATE) * (1 + 0.8 * np.sin(np.arange(12 * RATE) / 9000))
    lines = sum(np.sin(2 * np.pi * 50.02 * k * np.arange(12 * RATE) / RATE + k) for k in range(1, 8))
    seen = Resonance(
        hz=347.0, excess_db=7.5, q=18.0, certain=True
    )  # as it was measured of the seventh harmonic under a voice
    monkeypatch.setattr(ringing, "analyse", lambda *_: (seen,))
    rung = sosfilt(biquads.bell(347.0, 9, 20, RATE), noise)
    told = {}
    for name, sound in (("hum", noise + 0.01 * lines), ("bell", rung)):
        told[name] = ringing.findings(ArraySource(sound[None].astype(np.float32), RATE), NOTHING)
    assert told["hum"] == []
    assert [f.sentence for f in told["bell"]] == ["Resonances at 347 Hz, the strongest 7.5 dB."]


@pytest.mark.parametrize("tool", [t.id for t in ALL if t.picture is not None])
def test_pictures_are_finite_even_of_nothing_and_silence(tool: str, voice: np.ndarray) -> None:
    made = tool_of(tool)
    sound = voice[None, : 4 * RATE].astype(np.float32)
    learned = made.analyse(ArraySource(sound, RATE), (), made.settings(), NOTHING)
    for passage in (
        sound,
        np.zeros((1, 2 * RATE), np.float32),
        np.zeros((1, 700), np.float32),
        np.zeros((1, 0), np.float32),
        None,
    ):
        drawn = made.picture(passage, RATE, made.settings(), learned)
        assert drawn.curves
        for curve in drawn.curves:
            assert len(curve.hz) == len(curve.level_db)
            assert np.isfinite(curve.hz).all()
            assert np.isfinite(curve.level_db).all()


def test_the_picture_of_found_moments_shows_where_they_stand_out(voice: np.ndarray) -> None:
    sound = voice[: 6 * RATE].astype(np.float32)
    places = range(RATE, 5 * RATE, 40_007)
    for at in places:
        sound[at : at + 4] += np.array([0.3, -0.4, 0.35, -0.2], dtype=np.float32)
    drawn = clicks.picture(sound[None], RATE, clicks.ClicksSettings(), None)
    passage, found = drawn.curves
    treble = passage.hz > 10_000
    assert found.level_db[treble].mean() > passage.level_db[treble].mean() + 10
    assert str(len(places)) in drawn.caption
    empty = clicks.picture(np.zeros((1, RATE), np.float32), RATE, clicks.ClicksSettings(), None)
    assert empty.caption == "no click here"


def test_breaths_are_found_between_phrases_and_lowered(voice: np.ndarray) -> None:
    rng = np.random.default_rng(7)
    frames = 14_400
    shape = np.fft.irfft(
        np.fft.rfft(rng.normal(0, 1, frames)) / (1 + ((np.fft.rfftfreq(frames, 1 / RATE) - 1800) / 1500) ** 2)
    )
    sound = voice.copy()
    sound[20_000 : 20_000 + frames] += 0.012 * shape / shape.std() * np.hanning(frames)
    found = breaths.find(sound[None].astype(np.float32), 0, breaths.BreathsSettings(), RATE)
    (one,) = [b for b in found if b.start < 34_000]
    assert 20_000 < one.start < 26_000
    made = treated(sound, "breaths", range_db=12.0)[0]
    middle = slice(25_500, 29_000)
    assert power_db(made[middle]) == pytest.approx(power_db(sound[middle]) - 12, abs=0.5)
    assert [
        b for b in breaths.find(voice[None].astype(np.float32), 0, breaths.BreathsSettings(), RATE) if b.start < 40_000
    ] == []


def test_cut_tops_are_rebuilt_and_all_others_are_identical() -> None:
    recorded = open_media(Path(str(files("pulizia.data").joinpath("demo/hall-of-pendulums.flac")))).source
    voice = recorded.read(RATE, 8 * RATE)[0].astype(np.float64)
    limit = np.abs(voice).max() / 2
    sound = np.clip(voice, -limit, 0.8 * limit).astype(np.float32)
    made = treated(sound, "overload")[0]
    cut = (voice > 0.8 * limit) | (voice < -limit)
    before, after = (power_db(x[cut] - voice[cut]) for x in (sound, made))
    assert after < before - 8
    clear = (sound < 0.8 * limit - 1e-4) & (sound > -limit + 1e-4)
    assert np.array_equal(made[clear], sound[clear])
    source = ArraySource(sound[None], RATE)
    levels = overload.analyse(source, (), overload.OverloadSettings(), NOTHING)
    assert (levels.above[0].max(), levels.below[0].max()) == pytest.approx((0.8 * limit, limit), rel=1e-3)
    hot = ArraySource((sound / limit * 0.99)[None].astype(np.float32), RATE)
    room = overload.suggest(hot, (), overload.OverloadSettings(), NOTHING).changes["room_db"]
    assert room < -1
    lowered = treated(sound / limit * 0.99, "overload", room_db=room)
    assert np.abs(lowered).max() < 1.0


@pytest.mark.parametrize(("softness", "level_below_top_db"), [(None, None), (8.0, 2.0), (4.0, 2.0)])
def test_tops_under_noise_and_rounded_ones_come_back(softness: float | None, level_below_top_db: float | None) -> None:
    """Cut before the converter: found by itself. Rounded off: at the level that is typed; the rest stays to the bit."""
    recorded = open_media(Path(str(files("pulizia.data").joinpath("demo/interview-keeper-anselmi.flac")))).source
    voice = recorded.read(RATE, 9 * RATE)[0].astype(np.float64)
    limit = np.abs(voice).max() / 2
    if softness is None:
        noise = np.random.default_rng(5).standard_normal(len(voice))
        sound = np.clip(voice, -limit, limit) + noise * limit * 10 ** (-50 / 20)
    else:
        sound = voice / (1 + np.abs(voice / limit) ** softness) ** (1 / softness)
    top_db = 20 * np.log10(np.abs(sound).max())
    level = {} if level_below_top_db is None else {"level_dbfs": round(top_db - level_below_top_db, 1)}
    made = treated(sound, "overload", **level)[0]
    cut = np.abs(voice) > limit
    before, after = (power_db(x[cut] - voice[cut]) for x in (sound, made))
    assert after < before - 2.5
    clear = np.abs(sound) < 10 ** ((top_db - 3.0) / 20)
    assert np.array_equal(made[clear], sound[clear].astype(np.float32))
    if not level:
        source = ArraySource(sound[None].astype(np.float32), RATE)
        found = overload.analyse(source, (), overload.OverloadSettings(), NOTHING)
        assert found.uneven.all()


def test_harm_follows_the_true_loss_of_the_voice(voice: np.ndarray) -> None:
    """Known voice, known gains: the measure rises with the true loss and tells its region."""
    source = ArraySource(voice[None].astype(np.float32), RATE)
    assert activity_of(source).active.mean() > 0.2
    measured, true = [], []
    for depth in (1.0, 3.0, 6.0, 12.0, 20.0):
        from scipy.signal import sosfilt

        made = sosfilt(biquads.shelf(2000, -depth, 0.7, RATE, high=True), voice)
        found = harm(source, ArraySource(made[None].astype(np.float32), RATE), ())
        measured.append(found.regions_db[1])
        true.append(power_db((voice - made)[RATE:]))
    assert np.corrcoef(measured, true)[0, 1] > 0.95
    assert harm(source, source, ()).level_db == pytest.approx(-60.0)
    quieter = harm(source, ArraySource((0.25 * voice)[None].astype(np.float32), RATE), ())
    assert quieter.level_db < -40  # an even change of level harms nobody
    silence = ArraySource(np.zeros((1, RATE), np.float32), RATE)
    assert harm(silence, silence, ()) is None


@pytest.mark.slow
def test_what_the_room_adds_is_no_voice_where_the_room_is_taken_out() -> None:
    """Recorded voices in a made room as strong as they are: what the gain of each cell takes from the voice that is known."""
    rng = np.random.default_rng(2)
    room = rng.standard_normal(round(0.7 * RATE)) * 10.0 ** np.linspace(0.0, -3.0, round(0.7 * RATE))
    room[:240] *= np.linspace(0, 1, 240) ** 2
    room /= np.sqrt(np.sum(room**2))
    room[0] = 1.0
    error = []
    for name in ("hall-of-pendulums", "room-04-water-clock", "room-07-pocket-watches"):
        with as_file(files("pulizia.data") / "demo" / f"{name}.flac") as path:
            dry = open_media(path).source
            known = ArraySource(dry.read(0, min(dry.frames, 30 * RATE)), RATE)
        wet = ArraySource(oaconvolve(known.read(0, known.frames), room[None], axes=1)[:, : known.frames], RATE)
        after = Chain(wet, [make_step("room_tail")], ChunkCache(1 << 28), AnalysisStore()).after
        plain, told = harm(wet, after, ()), harm(wet, after, (), room=True)
        starts = np.arange(0, known.frames - plain.size, plain.size // 2)
        voice, x, y = (cells(source, starts, plain.size).astype(float) for source in (known, wet, after))
        gain = np.sqrt(y / np.maximum(x, 1e-20) / plain.gain)
        voice *= x > plain.floor * 10.0**1.2
        true = 10 * np.log10(np.sum(np.maximum(1 - gain, 0) ** 2 * voice) / voice.sum())
        error.append((plain.level_db - true, told.level_db - true))
        assert told.touched_percent < plain.touched_percent / 2
        shaded = [taken_cells(wet, after, found, starts[: len(starts) // 4]).sum() for found in (plain, told)]
        assert 0 < shaded[1] < shaded[0] / 2
    assert np.min(error, axis=0)[0] > 3.0
    assert np.abs(np.array(error)[:, 1]).max() < 2.0
    tones = ArraySource(0.1 * np.sin(np.arange(8 * RATE) / 20)[None].astype(np.float32), RATE)
    assert harm(tones, tones, (), room=True) == harm(tones, tones, ())


@pytest.mark.parametrize(
    "tool", ["noise", "hum", "gate", "ringing", "equaliser", "clicks", "plosives", "sibilance", "breaths", "overload"]
)
def test_suggestions_are_settings_and_sentences_even_for_silence(tool: str, voice: np.ndarray) -> None:
    made = tool_of(tool)
    for samples in (voice, np.zeros(2 * RATE), np.zeros(10)):
        found = made.suggest(ArraySource(samples[None].astype(np.float32), RATE), (), made.settings(), NOTHING)
        assert found.sentence.endswith(".")
        make_step(tool, {k: [list(b) for b in v] if isinstance(v, tuple) else v for k, v in found.changes.items()})


def test_the_quietest_passage_of_a_long_recording_is_found_wherever_it_lies() -> None:
    """Of more than ten minutes only some stretches are listened to; the quiet one is eleven minutes in."""
    rate = 8000
    rng = np.random.default_rng(9)
    sound = rng.normal(0, 0.1, (1, 1300 * rate)).astype(np.float32)
    sound[:, 640 * rate : 690 * rate] *= 0.01
    found = quiet_spans(ArraySource(sound, rate))
    assert all(640 * rate <= s.start and s.stop <= 690 * rate for s in found)


def test_one_profile_everywhere_is_learned_from_its_place_alone_and_the_change_is_offered(voice: np.ndarray) -> None:
    half = len(voice) // 2
    rng = np.random.default_rng(3)
    sound = voice + np.where(np.arange(len(voice)) < half, 0.0, rng.normal(0, 0.01, len(voice)))
    reads: list[tuple[int, int]] = []

    class Listened(ArraySource):
        def read(self, start: int, stop: int) -> Samples:
            reads.append((start, stop))
            return super().read(start, stop)

    source = Listened(sound[None].astype(np.float32), RATE)
    given = {"profile_spans_s": [[0.1, 0.9]]}
    made = Chain(source, [make_step("noise", given | {"following": "one"})], ChunkCache(), AnalysisStore())
    stage = next(iter(made.stages.values()))
    profile = stage.analysis()
    assert reads
    assert max(stop for _, stop in reads) <= (0.9 + AROUND_S) * RATE + 2048 < half
    settings = stage.step.settings
    survey = noise.survey(source, stage, (), settings, profile, NOTHING)
    assert "changes once" in survey.sentence
    assert survey.marks[0].start == pytest.approx(half, abs=0.4 * RATE)
    assert noise.suggest(source, (), settings, NOTHING).changes["following"] == "changes"
    by_itself = noise.analyse(source, (), make_step("noise", given).settings, NOTHING)
    assert by_itself.edges[0] == pytest.approx(half, abs=0.4 * RATE)
    assert float(by_itself.rows[2].sum()) > 4.0 * float(by_itself.rows[0].sum())


LOWERING = ("noise", "gate", "hum", "room_tail", "sibilance", "breaths", "plosives", "ringing", "clicks", "limiter")


@pytest.fixture(scope="module")
def quiet_ends() -> np.ndarray:
    """The voice in a room, with noise alone before and after it, ending soon after a change of what tools learn in pieces."""
    dry = voice_in_noise(12.0)[0].astype(np.float64)
    rng = np.random.default_rng(4)
    t = np.arange(round(0.5 * RATE)) / RATE
    room = rng.standard_normal(len(t)) * 10.0 ** (-3.0 * t / 0.6) * 0.05
    room[0] = 1.0
    wet = np.convolve(np.concatenate([np.zeros(round(1.5 * RATE)), dry[: 4 * RATE]]), room)[: round(6.3 * RATE)]
    return wet + rng.normal(0.0, 0.002, len(wet))


@pytest.mark.parametrize("tool", LOWERING)
def test_what_only_lowers_lifts_no_moment(quiet_ends: np.ndarray, tool: str) -> None:
    """Frames of 50 ms, from the very first to the very last."""
    made = treated(quiet_ends, tool)[0]
    frames = len(made) // 2400
    before, after = (np.square(x[: frames * 2400].reshape(frames, 2400)).mean(axis=1) for x in (quiet_ends, made))
    assert (10 * np.log10(after / before)).max() < 2.0
